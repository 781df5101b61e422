import { Button, Input } from "antd";
import { useState } from "react";
import type { CompanionCategory, CompanionSaid, CompanionTried } from "../../api/companions";
import { Icon } from "../../components/icons";
import { Flag, Prose } from "../../components/parts";
import { age, matching } from "./words";

/** columns is how many values stand in the table of places. */
const columns = 4;
/** old is from when on an age is said with attention, in seconds. */
const old = 3600;

/** CategoryStep names states of the values, and shows what four places have now. */
export function CategoryStep(props: {
  said: CompanionSaid;
  results: CompanionTried[];
  at: number;
  busy: boolean;
  onAt: (at: number) => void;
  onChange: (part: Partial<CompanionSaid>) => void;
  onAskAll: () => void;
}) {
  const { said, results } = props;
  const [editing, setEditing] = useState(-1);
  const list = said.categories;
  const put = (i: number, part: Partial<CompanionCategory>) =>
    props.onChange({ categories: list.map((c, n) => (n === i ? { ...c, ...part } : c)) });
  const move = (i: number, to: number) => {
    const next = [...list];
    const [one] = next.splice(i, 1);
    if (one) next.splice(to, 0, one);
    props.onChange({ categories: next });
    setEditing(to);
  };
  const known = results.filter((r) => r.answer.age !== null).length;
  return (
    <section className="companion-step" aria-label="Categories">
      <h3>
        <i className="serif">3</i> Categories{" "}
        <span className="small second">first match wins, exactly one</span>
      </h3>
      <ol className="companion-categories">
        {list.map((c, i) => (
          <li key={i} className={i === editing ? "editing" : ""}>
            <span className="small second">{i + 1}</span>
            {i === editing ? (
              <EditCategory
                c={c}
                first={i === 0}
                last={i === list.length - 1}
                onChange={(part) => put(i, part)}
                onMove={(by) => move(i, i + by)}
                onDrop={() => {
                  props.onChange({ categories: list.filter((_, n) => n !== i) });
                  setEditing(-1);
                }}
                onDone={() => setEditing(-1)}
              />
            ) : (
              <button type="button" className="companion-category" onClick={() => setEditing(i)}>
                <span className="chip category">{c.name || "name"}</span>
                <code className="small">
                  <When text={c.when} />
                </code>
                <span className="small second">
                  {matching(results, c.name)} of {known}
                </span>
              </button>
            )}
          </li>
        ))}
        <li>
          <span />
          <div className="companion-category default">
            <Input
              size="small"
              className="chip category"
              aria-label="The default category"
              placeholder="none"
              maxLength={40}
              value={said.default}
              onChange={(e) => props.onChange({ default: e.target.value })}
            />
            <span className="small second">everything else, the default</span>
            <span className="small second">
              {said.default ? matching(results, said.default) : 0} of {known}
            </span>
          </div>
        </li>
      </ol>
      <div className="companion-more">
        <button
          type="button"
          className="textlink"
          onClick={() => {
            const value = said.values[0]?.name ?? "wind";
            props.onChange({ categories: [...list, { name: "", when: `${value} >= 0` }] });
            setEditing(list.length);
          }}
        >
          Add a category
        </button>
        <span className="small second">a value missing that decides: no category, with the reason</span>
      </div>
      <Places {...props} />
    </section>
  );
}

/** When writes a condition with the signs of print. */
function When({ text }: { text: string }) {
  return <>{text.replaceAll(">=", "≥").replaceAll("<=", "≤").replaceAll("!=", "≠")}</>;
}

function EditCategory(props: {
  c: CompanionCategory;
  first: boolean;
  last: boolean;
  onChange: (part: Partial<CompanionCategory>) => void;
  onMove: (by: number) => void;
  onDrop: () => void;
  onDone: () => void;
}) {
  return (
    <div className="companion-edit">
      <Input
        className="mono"
        aria-label="Name of the category"
        placeholder="storm"
        maxLength={40}
        autoFocus={props.c.name === ""}
        value={props.c.name}
        onChange={(e) => props.onChange({ name: e.target.value })}
        onPressEnter={props.onDone}
      />
      <Input
        className="mono"
        aria-label="When it is active"
        placeholder="wind >= 17 or rain >= 10"
        maxLength={500}
        value={props.c.when}
        onChange={(e) => props.onChange({ when: e.target.value })}
        onPressEnter={props.onDone}
      />
      <span className="companion-edit-buttons">
        <Button size="small" disabled={props.first} onClick={() => props.onMove(-1)}>
          Up
        </Button>
        <Button size="small" disabled={props.last} onClick={() => props.onMove(1)}>
          Down
        </Button>
        <Button size="small" type="text" onClick={props.onDrop}>
          Drop
        </Button>
        <Button size="small" type="text" icon={<Icon name="check" />} onClick={props.onDone}>
          Done
        </Button>
      </span>
    </div>
  );
}

function Places(props: {
  said: CompanionSaid;
  results: CompanionTried[];
  at: number;
  busy: boolean;
  onAt: (at: number) => void;
  onAskAll: () => void;
}) {
  const shown = props.said.values.slice(0, columns);
  return (
    <div className="companion-places-scroll">
      <table className="companion-places">
        <thead>
          <tr>
            <th scope="col">
              Now{" "}
              <button type="button" className="textlink" disabled={props.busy} onClick={props.onAskAll}>
                Ask all
              </button>
            </th>
            {shown.map((v) => (
              <th key={v.name} scope="col" className="right" title={v.name}>
                {v.unit === "%" || v.unit === "" ? v.name : v.unit}
              </th>
            ))}
            <th scope="col">Category</th>
            <th scope="col" className="right">
              Age
            </th>
          </tr>
        </thead>
        <tbody>
          {props.results.map((r, i) => (
            <tr key={i} className={i === props.at ? "chosen" : ""}>
              <th scope="row">
                <button type="button" className="companion-place" onClick={() => props.onAt(i)}>
                  <Flag code={r.country_code} /> <Prose text={r.place} />
                </button>
              </th>
              {r.answer.age === null ? (
                <td colSpan={shown.length + 2} className="small second">
                  <Prose text={r.answer.missing["category"] ?? ""} />
                </td>
              ) : (
                <>
                  {shown.map((v) => (
                    <td key={v.name} className="right">
                      <Cell value={r.answer.values[v.name]} missing={r.answer.missing[v.name]} />
                    </td>
                  ))}
                  <td>
                    {r.answer.category ? (
                      <span
                        className={
                          props.said.categories.some((c) => c.name === r.answer.category)
                            ? "chip category"
                            : "chip category default"
                        }
                      >
                        {r.answer.category}
                      </span>
                    ) : (
                      <span className="small second" title={r.answer.missing["category"]}>
                        none
                      </span>
                    )}
                  </td>
                  <td className={(r.answer.age ?? 0) > old ? "right companion-old" : "right second"}>
                    {age(r.answer.age ?? 0)}
                  </td>
                </>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Cell({
  value,
  missing,
}: {
  value: number | string | boolean | null | undefined;
  missing: string | undefined;
}) {
  if (value === null || value === undefined)
    return (
      <span className="second" title={missing}>
        –
      </span>
    );
  if (typeof value === "number")
    return <>{value.toLocaleString("en", { maximumFractionDigits: 1 }).replace("-", "−")}</>;
  return <Prose text={String(value)} />;
}
