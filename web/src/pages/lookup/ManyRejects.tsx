import { Icon } from "../../components/icons";
import { Addr, Prose } from "../../components/parts";
import { reasonKind } from "./lines";
import { type Row } from "./useMany";
import { table, useSave } from "./manyFiles";

/** Rejects groups what was no address by its reason. */
export function Rejects({ rejects }: { rejects: Row[] }) {
  const download = useSave();
  if (rejects.length === 0) return null;
  const kinds = new Map<string, Row[]>();
  for (const r of rejects) {
    const kind = reasonKind(r.problem ?? "");
    kinds.set(kind, [...(kinds.get(kind) ?? []), r]);
  }
  const list = [...kinds].sort((a, b) => b[1].length - a[1].length);
  return (
    <section className="panel" aria-labelledby="rejects-title">
      <h2 className="panel-title panel-head" id="rejects-title">
        <span>
          Rejects <span className="small second">{rejects.length.toLocaleString("en")}</span>
        </span>
      </h2>
      <ul className="many-rejects">
        {list.slice(0, 6).map(([kind, of]) => (
          <li key={kind}>
            <b>{of.length.toLocaleString("en")}</b>
            <span>
              <Prose text={kind} />
              <span className="block small second">
                <Addr text={of[0]?.input || "nothing"} /> first on line {of[0]?.line.toLocaleString("en")}
              </span>
            </span>
          </li>
        ))}
      </ul>
      <p className="many-foot">
        <button
          type="button"
          className="linklike strong"
          onClick={() =>
            download(
              "rejects.csv",
              table(
                ["line", "text", "reason"],
                rejects.map((r) => [r.line, r.input, r.problem]),
              ),
            )
          }
        >
          <Icon name="down" /> Rejects as a file
        </button>
      </p>
    </section>
  );
}
