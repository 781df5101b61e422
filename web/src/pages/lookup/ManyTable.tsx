import { km } from "../../components/format";
import { Addr, Country, LevelMark, Prose } from "../../components/parts";
import { reasonKind } from "./lines";
import { type Row } from "./useMany";

export function AnswerTable({ rows }: { rows: Row[] }) {
  return (
    <div className="many-scroll" tabIndex={0} role="region" aria-label="Answers">
      <table className="visits-table many-table">
        <thead>
          <tr>
            <th scope="col" className="right many-line">
              Line
            </th>
            <th scope="col">Address, as parsed</th>
            <th scope="col">Location</th>
            <th scope="col" className="many-level">
              Level
            </th>
            <th scope="col" className="right many-radius">
              Radius
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr key={r.line} className={r.problem !== null ? "rejected" : r.aside ? "aside" : ""}>
              <td className="right second">{r.line}</td>
              <td className="cut">
                {r.address ? <Addr text={r.address} link short /> : <Addr text={r.input || "nothing"} />}
                {r.spelling && <span className="small second"> {r.spelling}</span>}
              </td>
              {r.problem !== null ? (
                <td colSpan={3} className="cut">
                  <b>not an address,</b> <Prose text={reasonKind(r.problem)} />
                </td>
              ) : r.aside ? (
                <td colSpan={3}>
                  <span className="chip kind aside">{r.kind} · skipped</span>
                </td>
              ) : (
                <>
                  <td className="cut">
                    {r.code ? (
                      <Country
                        code={r.code}
                        name={[r.city ?? r.region, r.country].filter(Boolean).join(", ")}
                      />
                    ) : (
                      <span className="second">Location unknown</span>
                    )}
                  </td>
                  <td>
                    <LevelMark level={r.level} />
                  </td>
                  <td className="right">{r.radius === null ? "–" : km(r.radius)}</td>
                </>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
