import { App, Button, Checkbox, Input, Segmented, Select } from "antd";
import { useState } from "react";
import type { Snippet, Timed } from "../../api/client";
import { useSnippets, useTimed, useVisits } from "../../api/queries";
import { Icon } from "../../components/icons";
import { shown as withoutCodes } from "../../features/presentation/veil";
import { maskText } from "../../features/presentation/mask";
import { usePreferences } from "../../components/preferences";
import { useSite } from "../../components/site";
import { Bars, Failed } from "../../components/states";
import { facts, folded, pretty, shortName, toggled, usual } from "./facts";

/** SnippetsPanel gives code to paste for the facts that are ticked, and shows their answer. */
export function SnippetsPanel() {
  const [ticked, setTicked] = useState(usual);
  const [base, setBase] = useState("");
  const fields = ticked.join(",");
  const snippets = useSnippets(fields, base);
  return (
    <section className="panel snippets" aria-label="Snippets">
      <div className="snippet-facts">
        <h2 className="panel-title">Facts the page needs</h2>
        {facts.map((f) => (
          <fieldset key={f.group}>
            <legend className="small second">{f.group}</legend>
            {f.paths.map((path) => (
              <Checkbox
                key={path}
                checked={ticked.includes(path)}
                onChange={() => setTicked(toggled(ticked, path))}
              >
                <code>{shortName(path)}</code>
              </Checkbox>
            ))}
          </fieldset>
        ))}
      </div>
      <div className="snippet-code">
        {snippets.isPending ? (
          <Bars label="The snippets are loading" />
        ) : (
          <>
            {snippets.isError && (
              <Failed
                what="The snippets could not be loaded."
                error={snippets.error}
                retry={() => void snippets.refetch()}
              />
            )}
            {snippets.data && <Code snippets={snippets.data.snippets} />}
            <label className="small second">
              Where pages and applications reach the service
              <Input
                value={base}
                placeholder={snippets.data?.base ?? "https://in.heronlake.example"}
                onChange={(e) => setBase(e.target.value.trim())}
              />
            </label>
          </>
        )}
      </div>
      <Answers fields={fields} />
    </section>
  );
}

const firstNames = ["page", "go", "node", "python", "nginx"];

function Code({ snippets }: { snippets: Snippet[] }) {
  const { message } = App.useApp();
  const { presenting } = usePreferences();
  const [name, setName] = useState("page");
  const shown = snippets.find((s) => s.name === name) ?? snippets[0];
  if (!shown) return null;
  const others = snippets.filter((s) => !firstNames.includes(s.name));
  const copy = () =>
    void navigator.clipboard
      .writeText(presenting ? withoutCodes(shown.text) : shown.text)
      .then(() => message.success("Copied."));
  return (
    <>
      <div className="snippet-bar">
        <Segmented<string>
          aria-label="Language"
          options={snippets
            .filter((s) => firstNames.includes(s.name))
            .map((s) => ({ value: s.name, label: s.title }))}
          value={name}
          onChange={setName}
        />
        <Select
          aria-label="More languages"
          placeholder="more"
          value={others.some((s) => s.name === name) ? name : null}
          options={others.map((s) => ({ value: s.name, label: s.title }))}
          onChange={setName}
        />
        <Button icon={<Icon name="copy" />} onClick={copy}>
          Copy
        </Button>
      </div>
      <pre className="snippet-text" tabIndex={0} aria-label={`${shown.title}, ${shown.file}`}>
        {presenting ? withoutCodes(shown.text) : shown.text}
      </pre>
      <p className="small second">{shown.note}</p>
    </>
  );
}

/** Answers shows the short answer beside the whole card, for the last visitor whose place is known. */
function Answers({ fields }: { fields: string }) {
  const { site } = useSite();
  const recent = useVisits(site?.host ?? "", { level: "city" });
  const known = recent.data?.pages[0]?.visits.find((v) => v.card.address.text)?.card.address.text;
  const path = known ? `/v1/addresses/${encodeURIComponent(known)}` : "/v1/visitor";
  const short = useTimed(`${path}?fields=${fields}`, !recent.isPending);
  const whole = useTimed(path, !recent.isPending);
  const most = whole.data?.text.length ?? 0;
  return (
    <>
      <Answer title="Short answer" of={short.data} most={most} />
      <Answer title="Whole card" of={whole.data} most={most} folds />
    </>
  );
}

function Answer(props: { title: string; of: Timed | undefined; most: number; folds?: boolean }) {
  const { presenting } = usePreferences();
  const [open, setOpen] = useState(false);
  const answer = props.of;
  const hide = (text: string) => (presenting ? maskText(withoutCodes(text)) : text);
  const bytes = answer ? new TextEncoder().encode(answer.text).length : 0;
  return (
    <div className="snippet-answer">
      <div className="snippet-answer-head">
        <h3 className="panel-title">{props.title}</h3>
        {props.folds && (answer?.status ?? 200) < 400 ? (
          <button type="button" className="textlink" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "Fold" : "Unfold"}
          </button>
        ) : (
          answer && (
            <span className="small second nowrap">
              {answer.status} in {Math.max(1, Math.round(answer.milliseconds))} ms
            </span>
          )
        )}
      </div>
      {answer ? (
        <>
          <pre className="snippet-text" tabIndex={0} aria-label={props.title}>
            {!props.folds && <span className="second">{hide(requestLines(answer.path))}</span>}
            {hide(props.folds && !open ? folded(answer.text) : pretty(answer.text))}
          </pre>
          <p className="small">
            <b>{bytes.toLocaleString("en")} bytes</b>
          </p>
          <progress className="bytes" value={bytes} max={props.most || bytes} aria-hidden="true" />
        </>
      ) : (
        <Bars label={`${props.title} is loading`} />
      )}
    </div>
  );
}

/** requestLines writes a request over several lines, so that it fits a narrow column. */
function requestLines(path: string): string {
  const [start, query] = decodeURIComponent(path).split("?fields=");
  return `GET ${start}${query ? `\n  ?fields=${query.replaceAll(",", ",\n   ")}` : ""}\n\n`;
}
