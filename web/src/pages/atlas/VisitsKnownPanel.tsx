import { counted } from "../../components/format";
import { App, Button, Modal, Segmented } from "antd";
import { useState, type ReactNode } from "react";
import { useVisitCoverage, type OperatorKnown, type VisitCoverage } from "../../api/atlas";
import { Heads } from "../../components/Heads";
import { Addr, Country } from "../../components/parts";
import { Bars, Failed } from "../../components/states";
import { useCountryNames } from "./names";
import { percent } from "./words";

type View = "Countries" | "Operators" | "Disagreements";

/** rowsShown is how many rows stand there at once; the command line has all. */
const rowsShown = 12;

/** VisitsKnownPanel says how well the edition knows the addresses of one's own visits. */
export function VisitsKnownPanel({ edition }: { edition: string }) {
  const known = useVisitCoverage(edition);
  const [view, setView] = useState<View>("Countries");
  if (known.isPending)
    return (
      <section className="panel">
        <Bars label="The coverage of your visits is loading" rows={5} />
      </section>
    );
  if (known.isError)
    return (
      <section className="panel">
        <Failed
          what="The coverage of your visits could not be loaded."
          error={known.error}
          retry={() => void known.refetch()}
        />
      </section>
    );
  const v = known.data;
  return (
    <section className="panel known" aria-labelledby="known-title">
      <div className="panel-head keys-head">
        <h2 className="panel-title" id="known-title">
          Your visits
        </h2>
        <span className="small second">of the last {counted(v.days, "day")}</span>
        {v.visits > 0 && (
          <Segmented<View>
            options={["Countries", "Operators", "Disagreements"]}
            value={view}
            onChange={setView}
            aria-label="What of your visits"
          />
        )}
      </div>
      <Summary known={v} />
      {v.visits > 0 && view === "Countries" && <Countries known={v} />}
      {v.visits > 0 && view === "Operators" && <Operators known={v} />}
      {v.visits > 0 && view === "Disagreements" && <Disagreements known={v} />}
    </section>
  );
}

function Summary({ known: v }: { known: VisitCoverage }) {
  const apart = [
    v.without_address > 0 && `${v.without_address.toLocaleString("en")} without an address`,
    v.skipped > 0 && `${v.skipped.toLocaleString("en")} skipped`,
  ].filter(Boolean);
  if (v.visits === 0)
    return (
      <p className="known-line second">
        No visit has an address to look at{apart.length > 0 && ` (${apart.join(", ")})`}.
      </p>
    );
  const towns = v.levels.filter((l) => l.level === "city").reduce((sum, l) => sum + l.visits, 0);
  const nowhere = v.levels.filter((l) => l.level === "none").reduce((sum, l) => sum + l.visits, 0);
  return (
    <p className="known-line">
      <b className="num">{percent(towns / v.visits)}</b> known to a town,{" "}
      <b className="num">{percent(v.by_registration / v.visits)}</b> by registration only,{" "}
      <b className="num">{percent(nowhere / v.visits)}</b> not at all
      {apart.length > 0 && <span className="second">; {apart.join(", ")}</span>}.
    </p>
  );
}

function Countries({ known: v }: { known: VisitCoverage }) {
  const names = useCountryNames();
  return (
    <Scroll label="Your visits by country">
      <Heads of={["Country", ">Visits", ">To a town", ">By registration", ">Unknown"]} />
      <tbody>
        {v.countries.slice(0, rowsShown).map((c) => (
          <tr key={c.country_code ?? ""}>
            <td className="nowrap">
              {c.country_code ? (
                <Country code={c.country_code} name={names(c.country_code)} />
              ) : (
                <span className="second">not known</span>
              )}
            </td>
            <Shares of={c} />
          </tr>
        ))}
        <Rest all={v.countries.length} />
      </tbody>
    </Scroll>
  );
}

function Shares({ of }: { of: Pick<OperatorKnown, "visits" | "city" | "by_registration" | "unknown"> }) {
  return (
    <>
      <td className="right num">{of.visits.toLocaleString("en")}</td>
      <td className="right">{percent(of.city / of.visits)}</td>
      <td className="right">{percent(of.by_registration / of.visits)}</td>
      <td className="right">{percent(of.unknown / of.visits)}</td>
    </>
  );
}

function Rest({ all }: { all: number }) {
  if (all <= rowsShown) return null;
  return (
    <tr>
      <td colSpan={6} className="second">
        and {(all - rowsShown).toLocaleString("en")} more: <code>eastporch atlas visits --output json</code>
      </td>
    </tr>
  );
}

function Operators({ known: v }: { known: VisitCoverage }) {
  const { message } = App.useApp();
  const [letter, setLetter] = useState<OperatorKnown | null>(null);
  return (
    <>
      <Scroll label="Your visits by operator">
        <Heads
          of={[
            "Operator",
            ">Visits",
            ">To a town",
            ">By registration",
            ">Unknown",
            "If it published a geofeed",
          ]}
        />
        <tbody>
          {v.operators.slice(0, rowsShown).map((o) => (
            <tr key={`${o.as_number} ${o.operator}`}>
              <td>
                {o.operator ?? (o.as_number === null ? <span className="second">not known</span> : "")}{" "}
                {o.as_number !== null && <span className="mono small second">AS{o.as_number}</span>}
              </td>
              <Shares of={o} />
              <td className="nowrap">
                {o.gain > 0 ? (
                  <>
                    {o.gain.toLocaleString("en")} more{" "}
                    {o.letter && (
                      <button type="button" className="textlink" onClick={() => setLetter(o)}>
                        What to write
                      </button>
                    )}
                  </>
                ) : (
                  <span className="second">no more</span>
                )}
              </td>
            </tr>
          ))}
          <Rest all={v.operators.length} />
        </tbody>
      </Scroll>
      {letter && (
        <Modal
          open
          width={680}
          title={`To ${letter.operator ?? `AS${letter.as_number}`}`}
          onCancel={() => setLetter(null)}
          footer={
            <Button
              onClick={() =>
                void navigator.clipboard.writeText(letter.letter).then(
                  () => message.success("Copied."),
                  () => message.error("Copying is not allowed here."),
                )
              }
            >
              Copy
            </Button>
          }
        >
          <pre className="letter">{letter.letter}</pre>
        </Modal>
      )}
    </>
  );
}

function Disagreements({ known: v }: { known: VisitCoverage }) {
  if (v.disagreements.length === 0)
    return <p className="known-line second">Sources agree on all of your visits.</p>;
  return (
    <Scroll label="Where sources disagree" name="disagree">
      <Heads of={["Range and visits", "Believed", "Against it"]} />
      <tbody>
        {v.disagreements.slice(0, rowsShown).map((d) => (
          <tr key={`${d.range} ${d.against} ${d.instead}`}>
            <td>
              <Addr text={d.range} />
              <span className="block small second">
                {d.visits.toLocaleString("en")} {d.visits === 1 ? "visit" : "visits"}
              </span>
            </td>
            <td>
              {d.says} <span className="block small second">{d.source}</span>
            </td>
            <td>
              {d.instead} <span className="block small second">{d.against}</span>
            </td>
          </tr>
        ))}
        <Rest all={v.disagreements.length} />
      </tbody>
    </Scroll>
  );
}

function Scroll({ label, name = "", children }: { label: string; name?: string; children: ReactNode }) {
  return (
    <div className="scroll" tabIndex={0} role="region" aria-label={label}>
      <table className={`evidence atlas-table ${name}`}>{children}</table>
    </div>
  );
}
