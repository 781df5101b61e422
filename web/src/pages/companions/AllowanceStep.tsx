import { Input, InputNumber, Select } from "antd";
import type { ReactNode } from "react";
import type { Companion, CompanionSaid } from "../../api/companions";
import { span } from "./words";

const kept = [60, 300, 600, 900, 1800, 3600, 10_800, 21_600, 86_400];
const oldest = [3600, 10_800, 21_600, 43_200, 86_400, 259_200, 604_800, 2_592_000];
const waits = [500, 1000, 2000, 5000, 10_000];

/** AllowanceStep says how often the service may be asked, how long answers serve, and what must be shown beside them. */
export function AllowanceStep(props: {
  said: CompanionSaid;
  companion: Companion | undefined;
  onChange: (part: Partial<CompanionSaid>) => void;
}) {
  const { said, companion, onChange } = props;
  const used = companion?.used_today ?? 0;
  return (
    <section className="companion-step" aria-label="Allowance, age and credit">
      <h3>
        <i className="serif">4</i> Allowance, age and credit{" "}
        <span className="small second">
          {used.toLocaleString("en")} of {said.a_day.toLocaleString("en")} today
        </span>
      </h3>
      <Bar used={used} said={said} />
      <dl className="companion-limits">
        <Row name="Allowed">
          <InputNumber
            aria-label="Questions a day"
            min={0}
            precision={0}
            controls={false}
            value={said.a_day}
            onChange={(n) => onChange({ a_day: n ?? 0, reserve: Math.min(said.reserve, n ?? 0) })}
          />{" "}
          a day{" "}
          <InputNumber
            aria-label="Questions a minute"
            min={0}
            precision={0}
            controls={false}
            value={said.a_minute}
            onChange={(n) => onChange({ a_minute: n ?? 0 })}
          />{" "}
          a minute
        </Row>
        <Row name="Reserve">
          <InputNumber
            aria-label="Reserve"
            min={0}
            max={said.a_day}
            precision={0}
            controls={false}
            value={said.reserve}
            onChange={(n) => onChange({ reserve: n ?? 0 })}
          />{" "}
          for the ten places asked most
        </Row>
        <Row name="Kept">
          at least{" "}
          <Spans
            name="Kept at least"
            value={said.keep_seconds}
            from={kept}
            onChange={(n) => onChange({ keep_seconds: n, oldest_seconds: Math.max(n, said.oldest_seconds) })}
          />
          , longer if the service says so
        </Row>
        <Row name="At most">
          <Spans
            name="Shown at most"
            value={said.oldest_seconds}
            from={oldest}
            onChange={(n) => onChange({ oldest_seconds: n, keep_seconds: Math.min(n, said.keep_seconds) })}
          />{" "}
          old; then none, with the reason
        </Row>
        <Row name="Waits">
          never holds a card; gives up after{" "}
          <Choice
            name="Gives up after"
            value={said.timeout_ms}
            options={[...new Set([...waits, said.timeout_ms])]
              .sort((a, b) => a - b)
              .map((n) => ({ value: n, label: `${n / 1000} s` }))}
            onChange={(timeout_ms) => onChange({ timeout_ms })}
          />
        </Row>
        <Row name="Place">
          known to the{" "}
          <Choice<CompanionSaid["level"]>
            name="How well the place must be known"
            value={said.level}
            options={(["city", "region", "country"] as const).map((v) => ({ value: v, label: v }))}
            onChange={(level) => onChange({ level })}
          />{" "}
          at least
        </Row>
        <Row name="Credit">
          <Input
            className="companion-credit"
            variant="borderless"
            aria-label="Credit that must be shown"
            placeholder="what the service wants to have shown"
            maxLength={200}
            value={said.credit}
            onChange={(e) => onChange({ credit: e.target.value })}
          />
        </Row>
        {said.credit !== "" && (
          <Row name="leads to">
            <Input
              size="small"
              className="mono"
              aria-label="Where the credit leads"
              placeholder="https://sky.example/"
              maxLength={500}
              value={said.credit_url}
              onChange={(e) => onChange({ credit_url: e.target.value })}
            />
          </Row>
        )}
        <Row name="Note">
          <Input
            size="small"
            aria-label="Note"
            placeholder="for yourself"
            maxLength={200}
            value={said.note}
            onChange={(e) => onChange({ note: e.target.value })}
          />
        </Row>
      </dl>
    </section>
  );
}

function Row({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div>
      <dt className="second">{name}</dt>
      <dd>{children}</dd>
    </div>
  );
}

/** Bar shows what is used of a day's allowance, what is left, and the reserve. */
function Bar({ used, said }: { used: number; said: CompanionSaid }) {
  const all = Math.max(1, said.a_day);
  const taken = Math.min(used, all);
  const held = Math.min(said.reserve, all - taken);
  const left = all - taken - held;
  const part = (n: number) => ({ width: `${(100 * n) / all}%` });
  return (
    <>
      <div
        className="companion-bar"
        role="img"
        aria-label={`${used} used, ${left} left, ${held} of them held in reserve`}
      >
        <span className="used" style={part(taken)}>
          {taken / all > 0.15 && `${used.toLocaleString("en")} used`}
        </span>
        <span className="left" style={part(left)}>
          {left / all > 0.15 && `${left.toLocaleString("en")} left`}
        </span>
        <span className="held" style={part(held)} />
      </div>
      <div className="companion-bar-foot small second">
        <span>since midnight by the site’s clock</span>
        <span>reserve {said.reserve.toLocaleString("en")}</span>
      </div>
    </>
  );
}

/** Choice is a word of a sentence that opens a list. */
function Choice<V extends string | number>(props: {
  name: string;
  value: V;
  options: { value: V; label: string }[];
  onChange: (value: V) => void;
}) {
  return (
    <Select<V>
      className="companion-choice"
      variant="borderless"
      size="small"
      aria-label={props.name}
      popupMatchSelectWidth={false}
      value={props.value}
      options={props.options}
      onChange={props.onChange}
    />
  );
}

function Spans(props: { name: string; value: number; from: number[]; onChange: (seconds: number) => void }) {
  const options = [...new Set([...props.from, props.value])].sort((a, b) => a - b);
  return (
    <Choice
      name={props.name}
      value={props.value}
      options={options.map((n) => ({ value: n, label: span(n) }))}
      onChange={props.onChange}
    />
  );
}
