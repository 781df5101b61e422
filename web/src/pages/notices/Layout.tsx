import { Dropdown, Input, Segmented } from "antd";
import { useRef, useState, type ReactNode } from "react";
import type { NoticeFact } from "../../api/notices";
import { Icon } from "../../components/icons";

/** facts matches a fact of a layout: {{.city}} or {{or .city "somewhere"}}. */
const facts = /\{\{\s*(?:\.([a-z_.]+)|or((?:\s+\.[a-z_.]+)+)\s+("(?:[^"\\]|\\.)*"|`[^`]*`))\s*\}\}/g;

/** drops says whether a line is dropped where a fact is missing. */
const drops = (line: string) => /\{\{\s*\.[a-z_.]+\s*\}\}/.test(line);

/** Marked shows a layout with its facts marked; lines that may be dropped have an edge. */
function Marked({ text }: { text: string }) {
  return (
    <div className="layout-marked" aria-hidden="true">
      {text.split("\n").map((line, i) => (
        <span key={i} className={drops(line) ? "layout-line may-drop" : "layout-line"}>
          {parts(line)}
          {"\n"}
        </span>
      ))}
    </div>
  );
}

function parts(line: string): ReactNode[] {
  const out: ReactNode[] = [];
  let at = 0;
  for (const found of line.matchAll(facts)) {
    out.push(line.slice(at, found.index));
    out.push(<mark key={found.index}>{found[0]}</mark>);
    at = found.index + found[0].length;
  }
  out.push(line.slice(at));
  return out;
}

/** Line edits one line with facts, such as a subject. */
export function Line(props: { id: string; value: string; max: number; onChange: (line: string) => void }) {
  return (
    <div className="layout-field single">
      <Marked text={props.value} />
      <textarea
        id={props.id}
        rows={1}
        maxLength={props.max}
        value={props.value}
        onChange={(e) => props.onChange(e.target.value.replace(/\s*\n\s*/g, " "))}
      />
    </div>
  );
}

/** factAt finds the fact that a place in a text is in. */
function factAt(text: string, place: number) {
  for (const found of text.matchAll(facts)) {
    const end = found.index + found[0].length;
    if (found.index <= place && place <= end && found[1])
      return { name: found[1], start: found.index, end, word: "" };
    if (found.index <= place && place <= end && found[2] && found[3])
      return {
        name: found[2].trim().split(/\s+/)[0]?.slice(1) ?? "",
        start: found.index,
        end,
        word: found[3].slice(1, -1),
      };
  }
  return undefined;
}

/** Layout edits the layout of a notice, as text and as HTML. */
export function Layout(props: {
  text: string;
  html: string;
  list: NoticeFact[];
  onText: (text: string) => void;
  onHTML: (html: string) => void;
  isHTML: boolean;
  onKind: (isHTML: boolean) => void;
}) {
  const area = useRef<HTMLTextAreaElement>(null);
  const [caret, setCaret] = useState(0);
  const text = props.isHTML ? props.html : props.text;
  const change = props.isHTML ? props.onHTML : props.onText;
  const current = factAt(text, caret);
  const put = (start: number, end: number, words: string) => {
    change(text.slice(0, start) + words + text.slice(end));
    setCaret(start + words.length);
    requestAnimationFrame(() => {
      area.current?.focus();
      area.current?.setSelectionRange(start + words.length, start + words.length);
    });
  };
  const look = () => setCaret(area.current?.selectionStart ?? 0);
  return (
    <section className="notice-layout" aria-label="Layout">
      <div className="notice-columnhead">
        <h3>Layout</h3>
        <Dropdown
          trigger={["click"]}
          menu={{
            className: "fact-menu",
            items: props.list.map((f) => ({ key: f.name, label: <FactLine fact={f} /> })),
            onClick: (e) => put(caret, caret, `{{.${e.key}}}`),
          }}
        >
          <button type="button" className="textlink">
            <Icon name="plus" /> Fact
          </button>
        </Dropdown>
        <Segmented
          size="small"
          aria-label="Which layout"
          value={props.isHTML ? "html" : "text"}
          onChange={(kind) => props.onKind(kind === "html")}
          options={[
            { value: "text", label: "Text" },
            { value: "html", label: "HTML" },
          ]}
        />
      </div>
      <div className={props.isHTML ? "layout-field mono" : "layout-field"}>
        <Marked text={text} />
        <textarea
          ref={area}
          aria-label={props.isHTML ? "Layout as HTML" : "Layout as text"}
          spellCheck={!props.isHTML}
          value={text}
          placeholder={props.isHTML ? "Empty: mails are text alone" : ""}
          onChange={(e) => change(e.target.value)}
          onSelect={look}
          onKeyUp={look}
          onClick={look}
        />
      </div>
      <div className="layout-missing small second">
        {current ? (
          <>
            <span className="factchip">{current.name}</span>
            <Dropdown
              trigger={["click"]}
              menu={{
                items: [
                  { key: "drop", label: "line is dropped when missing" },
                  { key: "word", label: "says something else when missing" },
                ],
                onClick: (e) =>
                  put(
                    current.start,
                    current.end,
                    e.key === "drop" ? `{{.${current.name}}}` : `{{or .${current.name} "unknown"}}`,
                  ),
              }}
            >
              <button type="button" className="textlink">
                {current.word ? "when missing says" : "line is dropped when missing"} <Icon name="down" />
              </button>
            </Dropdown>
            {current.word && (
              <Input
                size="small"
                className="layout-word"
                aria-label="What is said when it is missing"
                maxLength={60}
                value={current.word}
                onChange={(e) => {
                  const word = e.target.value.replace(/["\\`{}]/g, "");
                  if (word.trim() === "") return;
                  change(
                    `${text.slice(0, current.start)}{{or .${current.name} "${word}"}}${text.slice(current.end)}`,
                  );
                }}
              />
            )}
          </>
        ) : (
          <span>A line is dropped when a fact in it is missing.</span>
        )}
      </div>
    </section>
  );
}

function FactLine({ fact }: { fact: NoticeFact }) {
  return (
    <span className="fact-line">
      <span className="factchip">{fact.name}</span>
      <span className="small second">{fact.meaning}</span>
    </span>
  );
}
