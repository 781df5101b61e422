import { Button, Input, Popover, Segmented, Select } from "antd";
import type { CompanionParameter, CompanionSaid, CompanionTried } from "../../api/companions";
import { Icon } from "../../components/icons";
import { Prose } from "../../components/parts";
import { facts, isPlace } from "./words";

const grids = [0.05, 0.1, 0.25, 0.5, 1, 2, 5] as const;
const kmPerDegree = 111.2;

/** RequestStep is what a companion is asked: the address, its parameters, and trying it from a place. */
export function RequestStep(props: {
  said: CompanionSaid;
  secrets: string[];
  visitors: string[];
  results: CompanionTried[];
  at: number;
  busy: boolean;
  onChange: (part: Partial<CompanionSaid>) => void;
  onVisitors: (visitors: string[]) => void;
  onAt: (at: number) => void;
  onTry: () => void;
}) {
  const { said, onChange } = props;
  const put = (i: number, part: Partial<CompanionParameter>) =>
    onChange({ parameters: said.parameters.map((p, n) => (n === i ? { ...p, ...part } : p)) });
  const add = (p: Omit<CompanionParameter, "in">) =>
    onChange({ parameters: [...said.parameters, { ...p, in: said.method === "POST" ? "body" : "query" }] });
  const used = new Set(said.parameters.map((p) => p.fact));
  return (
    <section className="companion-step" aria-label="The request">
      <h3>
        <i className="serif">1</i> The request
      </h3>
      <div className="companion-url">
        <Select
          aria-label="Method"
          value={said.method}
          options={[{ value: "GET" }, { value: "POST" }]}
          onChange={(method: CompanionSaid["method"]) =>
            onChange({
              method,
              parameters: said.parameters.map((p) =>
                p.in === "header" ? p : { ...p, in: method === "POST" ? "body" : "query" },
              ),
            })
          }
        />
        <Input
          className="mono"
          aria-label="Address of the service"
          placeholder="https://sky.example/v1/now"
          value={said.url}
          onChange={(e) => onChange({ url: e.target.value })}
        />
      </div>
      <ul className="companion-parameters">
        {said.parameters.map((p, i) => (
          <li key={i}>
            <Input
              variant="borderless"
              className="mono"
              aria-label={`Name of parameter ${i + 1}`}
              placeholder="name"
              value={p.name}
              onChange={(e) => put(i, { name: e.target.value })}
            />
            <ParameterValue p={p} i={i} secrets={props.secrets} onChange={(part) => put(i, part)} />
            <ParameterNote p={p} said={said} onIn={(where) => put(i, { in: where })} onChange={onChange} />
            <button
              type="button"
              className="iconbutton"
              aria-label={`Drop parameter ${p.name || i + 1}`}
              onClick={() => onChange({ parameters: said.parameters.filter((_, n) => n !== i) })}
            >
              <Icon name="close" />
            </button>
          </li>
        ))}
      </ul>
      <div className="companion-add">
        <span className="small second">Add</span>
        {facts
          .filter((f) => !used.has(f))
          .map((fact) => (
            <button
              key={fact}
              type="button"
              className="factchip add"
              onClick={() => add({ name: fact, fact })}
            >{`{${fact}}`}</button>
          ))}
        <button type="button" className="factchip add" onClick={() => add({ name: "", fixed: "" })}>
          fixed
        </button>
        <button
          type="button"
          className="factchip add"
          onClick={() => add({ name: "key", secret: props.secrets[0] ?? "file:service.key" })}
        >
          secret
        </button>
      </div>
      <p className="small companion-never">
        <Icon name="check" /> The visitor’s address is not on offer, and is never sent.
      </p>
      <div className="companion-try">
        <Segmented<number>
          aria-label="A visitor to try it with"
          block
          value={props.at}
          onChange={props.onAt}
          options={props.visitors.map((v, i) => ({
            value: i,
            label: <Prose text={props.results[i]?.place ?? v.split(",")[0] ?? v} />,
          }))}
        />
        <Visitors visitors={props.visitors} onChange={props.onVisitors} />
        <Button loading={props.busy} disabled={said.url.trim() === ""} onClick={props.onTry}>
          Try
        </Button>
      </div>
    </section>
  );
}

function ParameterValue(props: {
  p: CompanionParameter;
  i: number;
  secrets: string[];
  onChange: (part: Partial<CompanionParameter>) => void;
}) {
  const { p } = props;
  if (p.fact) return <span className="factchip">{`{${p.fact}${isPlace(p.fact) ? "≈" : ""}}`}</span>;
  if (p.secret !== undefined)
    return (
      <span className="companion-secret">
        <Icon name="lock" />
        <Select
          variant="borderless"
          suffixIcon={null}
          aria-label={`Secret of ${p.name || "the parameter"}`}
          value={p.secret}
          popupMatchSelectWidth={false}
          options={[...new Set([...props.secrets, p.secret])].map((s) => ({
            value: s,
            label: `${s.replace(/^file:/, "from file ").replace(/^env:/, "from ")}${props.secrets.includes(s) ? "" : " (not there)"}`,
          }))}
          onChange={(secret: string) => props.onChange({ secret })}
        />
      </span>
    );
  return (
    <Input
      variant="borderless"
      className="mono"
      aria-label={`Value of ${p.name || `parameter ${props.i + 1}`}`}
      placeholder="value"
      maxLength={200}
      value={p.fixed ?? ""}
      onChange={(e) => props.onChange({ fixed: e.target.value })}
    />
  );
}

/** ParameterNote says how a parameter is sent: rounded to a grid, fixed, or never shown. */
function ParameterNote(props: {
  p: CompanionParameter;
  said: CompanionSaid;
  onIn: (where: CompanionParameter["in"]) => void;
  onChange: (part: Partial<CompanionSaid>) => void;
}) {
  const { p, said } = props;
  if (isPlace(p.fact))
    return (
      <Select
        size="small"
        variant="borderless"
        className="companion-note"
        suffixIcon={null}
        aria-label="Grid that places are rounded to"
        value={said.grid}
        popupMatchSelectWidth={false}
        options={grids.map((g) => ({ value: g, label: `grid ${g}° (${Math.round(g * kmPerDegree)} km)` }))}
        labelRender={() => `grid ${said.grid}°`}
        onChange={(grid: CompanionSaid["grid"]) => props.onChange({ grid })}
      />
    );
  if (p.fact) return <span className="companion-note small second">as known</span>;
  return (
    <Select
      size="small"
      variant="borderless"
      className="companion-note"
      suffixIcon={null}
      aria-label={`Where ${p.name || "the parameter"} stands`}
      value={p.in}
      popupMatchSelectWidth={false}
      options={(said.method === "POST"
        ? (["body", "query", "header"] as const)
        : (["query", "header"] as const)
      ).map((where) => ({ value: where, label: `in the ${where}` }))}
      labelRender={() =>
        p.in === "header" ? "in the header" : p.secret !== undefined ? "never shown" : "fixed"
      }
      onChange={props.onIn}
    />
  );
}

/** Visitors changes the made-up visitors that a companion is tried with. */
function Visitors({ visitors, onChange }: { visitors: string[]; onChange: (visitors: string[]) => void }) {
  return (
    <Popover
      trigger="click"
      placement="bottomRight"
      title="Visitors to try it with"
      content={
        <div className="companion-visitors">
          {visitors.map((v, i) => (
            <Input
              key={i}
              aria-label={`Visitor ${i + 1}`}
              defaultValue={v}
              maxLength={200}
              onBlur={(e) =>
                onChange(visitors.map((old, n) => (n === i ? e.target.value.trim() || old : old)))
              }
              onPressEnter={(e) => e.currentTarget.blur()}
            />
          ))}
          <span className="small second">A town with its country, or an address.</span>
        </div>
      }
    >
      <Button icon={<Icon name="pencil" />} aria-label="Change the visitors" />
    </Popover>
  );
}
