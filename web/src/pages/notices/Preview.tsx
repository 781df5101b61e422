import { Dropdown } from "antd";
import { useRef } from "react";
import type { NoticeVisit, NoticeWritten } from "../../api/notices";
import { Icon } from "../../components/icons";
import { Flag, Prose } from "../../components/parts";
import { moment } from "./words";

/** Preview shows what a notice says of one visit; another may be chosen. */
export function Preview(props: {
  title: string;
  written: NoticeWritten | undefined;
  visits: NoticeVisit[];
  isHTML: boolean;
  onVisit: (id: string) => void;
}) {
  const { written } = props;
  return (
    <section className="notice-preview" aria-label={props.title}>
      <div className="notice-columnhead">
        <span className="small second">{props.title}</span>
        {written && !written.made_up && (
          <Dropdown
            trigger={["click"]}
            menu={{
              className: "fact-menu",
              items: props.visits.slice(0, 20).map((v) => ({
                key: v.id,
                label: (
                  <span className="visit-choice">
                    <Flag code={v.country_code} /> {v.place}
                    <span className="small second">{moment(v.time)}</span>
                  </span>
                ),
              })),
              onClick: (e) => props.onVisit(e.key),
            }}
          >
            <button type="button" className="visit-choice plainbutton">
              <Flag code={written.country_code} />
              <b className="cut">{written.place}</b>
              <Icon name="down" />
            </button>
          </Dropdown>
        )}
        {written?.made_up && <span className="small second">made up</span>}
      </div>
      {written ? (
        <Mail written={written} isHTML={props.isHTML} />
      ) : (
        <p className="small second preview-none">Nothing to show yet.</p>
      )}
    </section>
  );
}

function Mail({ written, isHTML }: { written: NoticeWritten; isHTML: boolean }) {
  return (
    <div className="preview-mail">
      <b className="preview-subject">
        <Prose text={written.subject} />
      </b>
      {isHTML && written.html !== "" ? (
        <>
          <Page html={written.html} />
          {written.html_dropped.map((reason, i) => (
            <Dropped key={i} reason={reason} />
          ))}
        </>
      ) : isHTML ? (
        <span className="small second">No HTML: mails are text alone.</span>
      ) : (
        written.lines.map((line, i) =>
          line.dropped === null ? (
            <span key={i} className="preview-line">
              <Prose text={line.text} />
              {line.text === "" && " "}
            </span>
          ) : (
            <Dropped key={i} reason={line.dropped} />
          ),
        )
      )}
      {written.to.length === 0 && <span className="small second">To nobody but the webhook.</span>}
    </div>
  );
}

/** unstyled puts styles where no browser looks for them, for even to read them is against the console's policy. */
const unstyled = (html: string) =>
  html.replace(/<[^>]*>/g, (tag) =>
    tag.replace(/^<(\/?)style\b/i, "<$1template").replace(/\sstyle\s*=/gi, " data-style="),
  );

/** Page shows HTML as mail programs do. The console allows no styles in its pages' text, so they are set one by one; scripts
 * run nowhere. */
function Page({ html }: { html: string }) {
  const frame = useRef<HTMLIFrameElement>(null);
  const doc = new DOMParser().parseFromString(unstyled(html), "text/html");
  const sheets = [...doc.querySelectorAll("template")].map((s) => s.content.textContent);
  doc.querySelectorAll("template, script").forEach((e) => e.remove());
  const dress = () => {
    const inside = frame.current?.contentDocument;
    const Sheet =
      frame.current?.contentWindow &&
      (frame.current.contentWindow as typeof globalThis & Window).CSSStyleSheet;
    if (!inside || !Sheet) return;
    const own = new Sheet();
    own.replaceSync(`body{margin:10px;background:#fff;color:#16262e;zoom:.75}\n${sheets.join("\n")}`);
    inside.adoptedStyleSheets = [own];
    inside.querySelectorAll<HTMLElement>("[data-style]").forEach((e) => {
      e.style.cssText = e.dataset.style ?? "";
    });
  };
  return (
    <iframe
      ref={frame}
      title="As HTML"
      sandbox="allow-same-origin"
      srcDoc={doc.body.innerHTML}
      onLoad={dress}
    />
  );
}

function Dropped({ reason }: { reason: string }) {
  const [short, rest] = reason.split(": ", 2);
  return (
    <span className="preview-dropped small" title={rest}>
      dropped: <Prose text={(short ?? reason).replaceAll("_", " ")} />
    </span>
  );
}
