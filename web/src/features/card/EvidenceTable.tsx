import { Heads } from "../../components/Heads";
import type { Card, Evidence } from "../../api/client";
import { degrees, factName } from "../../components/format";
import { Addr, Basis, CodeChip, AttentionChip } from "../../components/parts";

interface Line {
  name: string;
  value: string;
  code?: string;
}

/** linesOf words the facts of one piece of evidence; coordinates are one line. */
function linesOf(e: Evidence, card: Card): Line[] {
  const names: Record<string, string | null> = {
    country_code: card.location.names.country,
    region_code: card.location.names.region,
  };
  const own: Record<string, string | null> = {
    country_code: card.location.country_code,
    region_code: card.location.region_code,
  };
  const regions = new Intl.DisplayNames(["en"], { type: "region" });
  const lines: Line[] = [];
  for (const fact of e.facts) {
    const value = e.values[fact] ?? "";
    if (fact === "longitude") continue;
    if (fact === "latitude") {
      const at = `${degrees(Number(value))}, ${degrees(Number(e.values["longitude"]))}`;
      lines.push({ name: "Coordinates", value: at });
    } else if (fact === "as_number") lines.push({ name: "AS number", value: `AS${value}` });
    else if (fact === "radius_km") lines.push({ name: "Radius", value: `${value} km` });
    else if (fact === "country_code" || fact === "region_code") {
      const name = own[fact] === value ? names[fact] : fact === "country_code" ? regions.of(value) : null;
      lines.push({ name: factName(fact), value: name ?? "", code: value });
    } else lines.push({ name: factName(fact), value });
  }
  return lines;
}

/** EvidenceTable shows who says so, grouped by source; what lost comes last. */
export function EvidenceTable({ card }: { card: Card }) {
  const used = card.evidence.filter((e) => e.used);
  const lost = card.evidence.filter((e) => !e.used);
  return (
    <div className="scroll">
      <table className="evidence">
        <Heads of={["Fact", "Value", "Basis", "Source", ">Rank", "Range", "Dated"]} />
        {[...used, ...lost].map((e, i) => {
          const lines = linesOf(e, card);
          return (
            <tbody key={i} className={e.used ? "" : "lost"}>
              <tr>
                <td className="second">
                  {e.used ? lines.map((l) => <div key={l.name}>{l.name}</div>) : "Also said"}
                </td>
                <td>
                  {lines.length === 0 && "do not locate"}
                  {lines.map((l) => (
                    <div key={l.name} className="value">
                      {l.value} {l.code && <CodeChip code={l.code} />}
                    </div>
                  ))}
                </td>
                <td>
                  <Basis basis={e.basis} />
                </td>
                <td>
                  {e.source}
                  <div className="small second">
                    {e.reason?.startsWith("disagrees") && <AttentionChip>disagrees</AttentionChip>}{" "}
                    {e.reason?.replace(/^disagrees /, "") ??
                      (e.basis === "self-published claim" ? "names these itself" : "")}
                  </div>
                </td>
                <td className="right">{e.rank ?? "–"}</td>
                <td>{e.range ? <Addr text={e.range} /> : "–"}</td>
                <td className="nowrap">{e.dated ?? "–"}</td>
              </tr>
            </tbody>
          );
        })}
      </table>
    </div>
  );
}

/** EvidenceBlocks is the same as one block a source, for narrow places. */
export function EvidenceBlocks({ card }: { card: Card }) {
  return (
    <ul className="blocks">
      {card.evidence.map((e, i) => (
        <li key={i} className={e.used ? "" : "lost"}>
          <div className="block-head">
            <span>
              {e.rank !== null && <span className="serif rank">{e.rank}</span>} <b>{e.source}</b>
            </span>
            <span className="small second">{e.dated}</span>
          </div>
          <div className="value">
            {linesOf(e, card).map((l) => (
              <span key={l.name}>
                {l.value} {l.code && <CodeChip code={l.code} />}
              </span>
            ))}
          </div>
          <div className="small second">
            <Basis basis={e.basis} />
            {e.range && (
              <>
                {" "}
                <Addr text={e.range} />
              </>
            )}
          </div>
          {e.reason && (
            <div className="small second">
              {e.reason.startsWith("disagrees") && <AttentionChip>disagrees</AttentionChip>}{" "}
              {e.reason.replace(/^disagrees /, "")}
            </div>
          )}
        </li>
      ))}
    </ul>
  );
}
