import { Input, Select } from "antd";
import { useState, type CSSProperties } from "react";
import type { CompanionLine, CompanionSaid, CompanionTried, CompanionValue } from "../../api/companions";
import { AttentionChip, Prose } from "../../components/parts";
import { age, nameFor } from "./words";

/** old is from when on the age of an answer is said with attention, in seconds. */
const old = 3600;

/** AnswerStep shows the whole answer of the service, whose values are picked by a click. */
export function AnswerStep(props: {
  said: CompanionSaid;
  tried: CompanionTried | undefined;
  onChange: (part: Partial<CompanionSaid>) => void;
}) {
  const { said, tried } = props;
  const [chosen, setChosen] = useState(0);
  const values = said.values;
  const put = (part: Partial<CompanionValue>) =>
    props.onChange({ values: values.map((v, n) => (n === chosen ? { ...v, ...part } : v)) });
  const pick = (line: CompanionLine) => {
    const pointer = line.pointer ?? "";
    const have = values.findIndex((v) => v.pointer === pointer);
    if (have >= 0) return setChosen(have);
    const type = line.type === "text" || line.type === "boolean" ? line.type : "number";
    const name = nameFor(
      pointer,
      values.map((v) => v.name),
    );
    props.onChange({ values: [...values, { name, pointer, type, unit: "" }] });
    setChosen(values.length);
  };
  const lines = tried?.lines ?? [];
  const elsewhere = values.flatMap((v, i) => (lines.some((l) => l.pointer === v.pointer) ? [] : [{ v, i }]));
  return (
    <section className="companion-step" aria-label="The answer">
      <h3>
        <i className="serif">2</i> The answer <How tried={tried} />
      </h3>
      <div className="companion-answer">
        <div className="companion-answer-head small second" aria-hidden="true">
          <span>Click a value to pick it</span>
          <span>Name</span>
          <span>Pointer</span>
          <span>Unit</span>
        </div>
        {lines.length === 0 && (
          <p className="companion-nothing small second">
            <Prose text={nothing(tried)} />
          </p>
        )}
        <div className="companion-lines">
          {lines.map((line, n) => {
            const at = line.pointer === null ? -1 : values.findIndex((v) => v.pointer === line.pointer);
            return (
              <Line
                key={n}
                line={line}
                value={values[at]}
                chosen={at >= 0 && at === chosen}
                onPick={() => pick(line)}
              />
            );
          })}
        </div>
        {(tried?.lines_cut ?? 0) > 0 && (
          <p className="companion-nothing small second">{tried?.lines_cut.toLocaleString("en")} more lines</p>
        )}
        {elsewhere.map(({ v, i }) => (
          <button
            key={v.name}
            type="button"
            className={i === chosen ? "companion-line lost chosen" : "companion-line lost"}
            onClick={() => setChosen(i)}
          >
            <span className="companion-json small second">not in this answer</span>
            <Picked value={v} />
          </button>
        ))}
      </div>
      {values[chosen] && (
        <Chosen
          value={values[chosen]}
          tried={tried}
          onChange={put}
          onDrop={() => {
            props.onChange({ values: values.filter((_, n) => n !== chosen) });
            setChosen(Math.max(0, chosen - 1));
          }}
        />
      )}
    </section>
  );
}

function nothing(tried: CompanionTried | undefined): string {
  if (!tried) return "Try it first: the whole answer stands here then.";
  const reason = tried.answer.missing["category"] ?? "";
  return tried.question ? reason : `${reason}. Try it: the whole answer stands here then.`;
}

/** How says how the question went that the answer is of. */
function How({ tried }: { tried: CompanionTried | undefined }) {
  const q = tried?.question;
  if (!q) return null;
  const seconds = tried.answer.age ?? 0;
  if (q.problem)
    return (
      <AttentionChip>
        <Prose text={q.problem.replace(/^the (service|answer is not usable:) /, "")} />
      </AttentionChip>
    );
  if (seconds > old) return <AttentionChip>{age(seconds)} old</AttentionChip>;
  return (
    <span className="small second">
      <b>{q.status}</b>, {(q.content_type ?? "no type").replace("application/", "").toUpperCase()},{" "}
      {q.bytes < 1000 ? `${q.bytes} B` : `${(q.bytes / 1000).toFixed(1)} kB`}, {q.took_ms} ms
    </span>
  );
}

function Line(props: {
  line: CompanionLine;
  value: CompanionValue | undefined;
  chosen: boolean;
  onPick: () => void;
}) {
  const { line, value } = props;
  const text = (
    <span className="companion-json addr" style={{ "--deep": line.depth } as CSSProperties}>
      {line.before}
      {line.text && (
        <span className={value ? "value picked" : "value"}>
          <Prose text={line.text} />
        </span>
      )}
      {line.after}
    </span>
  );
  if (line.pointer === null || line.type === "null") return <div className="companion-line">{text}</div>;
  return (
    <button
      type="button"
      className={props.chosen ? "companion-line chosen" : "companion-line"}
      aria-pressed={value !== undefined}
      onClick={props.onPick}
    >
      {text}
      {value && <Picked value={value} />}
    </button>
  );
}

function Picked({ value }: { value: CompanionValue }) {
  return (
    <>
      <b className="small cut">{value.name}</b>
      <code className="small second cut">{value.pointer}</code>
      <span className="small companion-unit">{value.unit}</span>
    </>
  );
}

function Chosen(props: {
  value: CompanionValue;
  tried: CompanionTried | undefined;
  onChange: (part: Partial<CompanionValue>) => void;
  onDrop: () => void;
}) {
  const { value, tried } = props;
  const human = tried?.answer.human[value.name];
  const missing = tried?.question ? tried.answer.missing[value.name] : undefined;
  return (
    <div className="companion-chosen">
      <Input
        className="mono"
        aria-label="Name of the value"
        maxLength={40}
        value={value.name}
        onChange={(e) => props.onChange({ name: e.target.value })}
      />
      <Select
        aria-label="Type of the value"
        value={value.type}
        options={[{ value: "number" }, { value: "text" }, { value: "boolean" }]}
        onChange={(type: CompanionValue["type"]) => props.onChange({ type })}
      />
      <Input
        aria-label="Unit of the value"
        placeholder="unit"
        maxLength={20}
        value={value.unit}
        onChange={(e) => props.onChange({ unit: e.target.value })}
      />
      <button type="button" className="textlink" onClick={props.onDrop}>
        Drop
      </button>
      <span className="small second companion-shown">
        {human !== undefined && (
          <>
            shown as{" "}
            <b>
              <Prose text={human} />
            </b>{" "}
            <span className="chip code">{tried?.language}</span>
          </>
        )}
        {human === undefined && missing !== undefined && <Prose text={missing} />}
      </span>
    </div>
  );
}
