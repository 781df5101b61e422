import { App, Button } from "antd";
import type { Companion } from "../../api/companions";
import { Icon } from "../../components/icons";
import { Prose } from "../../components/parts";

/** breakable lets a line end before a parameter. */
const breakable = "\u200b&";

/** Sends says what a companion is told, and what never, with the last question whole; and what to put on the page. */
export function Sends({ companion: c }: { companion: Companion }) {
  const { message } = App.useApp();
  const category = c.said.categories[0]?.name ?? c.said.default;
  return (
    <>
      <section className="panel companions-sends" aria-label="What leaves this machine">
        <h2>What leaves this machine</h2>
        <ul>
          {c.sends.map((words) => (
            <li key={words}>
              <Icon name="check" />
              <span>{words}</span>
            </li>
          ))}
          <li>
            <Icon name="close" />
            <span>
              <b>never the visitor’s address,</b> browser, cookie or page
            </span>
          </li>
        </ul>
        <p className="small second">
          {c.last ? "The last question, whole" : "It was not asked since the start."}
        </p>
        {c.last && (
          <pre className="companions-question" tabIndex={0} aria-label="The last question">
            <Prose text={c.last.text.replaceAll("&", breakable)} />
          </pre>
        )}
      </section>
      <section className="panel companions-sends" aria-label="On your page">
        <div className="companions-head">
          <h2>On your page</h2>
          <Button
            size="small"
            type="text"
            icon={<Icon name="copy" />}
            aria-label="Copy the line for your page"
            onClick={() =>
              void navigator.clipboard.writeText(c.snippet).then(() => message.success("Copied."))
            }
          />
        </div>
        <pre className="companions-question">
          {c.snippet.replace("=", "=\n").replace(".category", "\u200b.category")}
        </pre>
        {category && (
          <p className="small second">
            Sets one class, <code>{`${c.name}-${category}`}</code>, and replaces the last.
          </p>
        )}
      </section>
    </>
  );
}
