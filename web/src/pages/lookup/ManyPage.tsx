import { Button, Input, Progress, Segmented, Select } from "antd";
import { geoNaturalEarth1, geoPath } from "d3-geo";
import { useMemo, useState } from "react";
import { km } from "../../components/format";
import { Icon } from "../../components/icons";
import { shown as withoutCodes } from "../../api/veil";
import { maskText } from "../../components/mask";
import { Addr, Country, LevelMark, Prose } from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { Empty, Failed } from "../../components/states";
import { useSize } from "../../map/useSize";
import { useOutlines } from "../../map/world";
import { csvCell, how, planOf, reasonKind, type Plan } from "./lines";
import { useMany, type Row } from "./useMany";

/** most lines that the page takes; more is work for the command line. */
const mostLines = 200_000;
/** shown rows at the most. */
const shown = 500;

/** ManyPage answers for the addresses of a file or a list, in their order. */
export function ManyPage() {
  const [name, setName] = useState("");
  const [lines, setLines] = useState<string[]>([]);
  const [plan, setPlan] = useState<Plan | null>(null);
  const [refused, setRefused] = useState("");
  const begin = (title: string, text: string) => {
    const list = text.replace(/^\ufeff/, "").split(/\r?\n/);
    while (list.length > 0 && list[list.length - 1]?.trim() === "") list.pop();
    if (list.length === 0) return setRefused("There is no line in it.");
    if (list.length > mostLines)
      return setRefused(
        `It has more than ${mostLines.toLocaleString("en")} lines: use eastporch resolve - --output csv for it.`,
      );
    setRefused("");
    setName(title);
    setLines(list);
    setPlan(planOf(list));
  };
  if (plan === null) return <Choose onText={begin} refused={refused} />;
  return <Work name={name} lines={lines} plan={plan} onPlan={setPlan} onAgain={() => setPlan(null)} />;
}

function Choose(props: { onText: (name: string, text: string) => void; refused: string }) {
  const [text, setText] = useState("");
  const { presenting } = usePreferences();
  const read = async (file: File | undefined) => {
    if (file) props.onText(file.name, await file.text());
  };
  return (
    <section
      className="panel many-choose"
      aria-label="Addresses to look up"
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        void read(e.dataTransfer.files[0]);
      }}
    >
      <Empty
        title="Ask for many addresses at once."
        text="Choose or drop a file, or paste a list: one address a line, or a table with a column of them. Nothing leaves this service."
      >
        <label className="filebutton">
          <input
            type="file"
            className="unseen"
            aria-label="File of addresses"
            onChange={(e) => void read(e.target.files?.[0])}
          />
          <span>Choose a file</span>
        </label>
      </Empty>
      <Input.TextArea
        rows={6}
        className="mono"
        aria-label="List of addresses"
        placeholder={"198.18.3.40\n2001:db8:5e1:40::1f"}
        value={presenting ? maskText(text) : text}
        readOnly={presenting && text !== ""}
        onChange={(e) => setText(e.target.value)}
        onPaste={(e) => {
          if (!presenting) return;
          e.preventDefault(); // so that it never stands here as it is
          setText(e.clipboardData.getData("text"));
        }}
      />
      {props.refused && (
        <p className="signin-failed" role="alert">
          {props.refused}
        </p>
      )}
      <Button
        type="primary"
        size="large"
        disabled={text.trim() === ""}
        onClick={() => props.onText("the pasted list", text)}
      >
        Look them up
      </Button>
    </section>
  );
}

type Which = "All" | "Skipped" | "Rejects";

function Work(props: {
  name: string;
  lines: string[];
  plan: Plan;
  onPlan: (plan: Plan) => void;
  onAgain: () => void;
}) {
  const { name, lines, plan } = props;
  const many = useMany(lines, plan);
  const download = useSave();
  const [which, setWhich] = useState<Which>("All");
  const [changing, setChanging] = useState(false);
  const rows = many.rows;
  const picked = rows.filter(
    (r) => which === "All" || (which === "Rejects" ? r.problem !== null : r.aside && r.problem === null),
  );
  const rejects = rows.filter((r) => r.problem !== null);
  const different = new Set(rows.map((r) => r.address).filter(Boolean)).size;
  const left = many.perSecond > 0 ? Math.ceil((many.all - many.done) / many.perSecond) : 0;
  const isOver = many.going === "done" || many.going === "failed";
  return (
    <div className="many">
      <section className="panel many-bar" aria-label="Progress">
        <div className="many-progress">
          <p>
            <b>
              <Prose text={name} />
            </b>{" "}
            <span className="small second">
              <Prose text={how(plan)} />
            </span>{" "}
            {plan.separator !== "" && (
              <button type="button" className="linklike small" onClick={() => setChanging(!changing)}>
                Change
              </button>
            )}
          </p>
          {changing && (
            <Select
              size="small"
              aria-label="Column of the addresses"
              value={plan.column}
              options={(lines[0] ?? "").split(plan.separator || ",").map((_, i) => ({
                value: i,
                label: plan.head[i] ? <Prose text={plan.head[i]} /> : `column ${i + 1}`,
              }))}
              onChange={(column: number) => {
                setChanging(false);
                props.onPlan({ ...plan, column });
              }}
            />
          )}
          <Progress
            percent={many.all ? Math.round((100 * many.done) / many.all) : 100}
            showInfo={false}
            strokeColor="var(--ep-primary)"
            size="small"
            aria-label="Lines answered"
          />
          <p className="small many-figures" aria-live="off">
            <span>
              <b>{many.done.toLocaleString("en")}</b> of {many.all.toLocaleString("en")} lines
            </span>
            {many.perSecond > 0 && <span>{Math.round(many.perSecond).toLocaleString("en")} a second</span>}
            {many.going === "running" && <span>{left} s left</span>}
            {many.going === "paused" && <span>paused</span>}
            <span className="second">Nothing leaves this service.</span>
          </p>
        </div>
        <div className="many-actions">
          {many.going === "running" && <Button onClick={many.pause}>Pause</Button>}
          {(many.going === "paused" || many.going === "failed") && (
            <Button onClick={many.resume}>Go on</Button>
          )}
          {isOver ? (
            <Button onClick={props.onAgain}>Another list</Button>
          ) : (
            <Button onClick={many.stop}>Stop here</Button>
          )}
          <Button
            type="primary"
            disabled={rows.length === 0}
            onClick={() => download("answers.csv", answersCSV(rows))}
          >
            {isOver ? "Download" : "Download so far"}
          </Button>
        </div>
      </section>
      {many.going === "failed" && (
        <section className="panel">
          <Failed what="The answer was cut short." error={many.error} retry={many.resume} />
        </section>
      )}
      <div className="many-columns">
        <section className="panel many-answers" aria-labelledby="answers-title">
          <div className="panel-head coverage-head">
            <h2 className="panel-title" id="answers-title">
              Answers <span className="small second">in the order of the list</span>
            </h2>
            <Segmented<Which> options={["All", "Skipped", "Rejects"]} value={which} onChange={setWhich} />
          </div>
          <AnswerTable rows={picked.slice(0, shown)} />
          <p className="many-foot small">
            <b>{rows.length.toLocaleString("en")}</b> lines answered, <b>{different.toLocaleString("en")}</b>{" "}
            different addresses.
            {picked.length > shown && ` The first ${shown} are shown; the download has all.`}
          </p>
        </section>
        <div className="atlas-side">
          <Summary rows={rows} />
          <Rejects rejects={rejects} />
        </div>
      </div>
    </div>
  );
}

function AnswerTable({ rows }: { rows: Row[] }) {
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

const levels = ["city", "region", "country", "continent", "none"] as const;

/** Summary puts the answers on a map, and counts them by level. */
function Summary({ rows }: { rows: Row[] }) {
  const good = rows.filter((r) => r.problem === null);
  const counts = [
    ...levels.map((l) => ({ name: l as string, n: good.filter((r) => !r.aside && r.level === l).length })),
    { name: "skipped", n: good.filter((r) => r.aside).length },
  ].filter((c) => c.n > 0);
  const most = Math.max(...counts.map((c) => c.n), 1);
  return (
    <section className="panel many-summary" aria-labelledby="onmap-title">
      <h2 className="panel-title panel-head" id="onmap-title">
        On the map
      </h2>
      <Dots rows={good} />
      <table className="activate-counts many-counts">
        <tbody>
          {counts.map((c) => (
            <tr key={c.name}>
              <th scope="row">{c.name}</th>
              <td>
                <svg
                  className="sharebar wide"
                  viewBox="0 0 140 7"
                  preserveAspectRatio="none"
                  aria-hidden="true"
                >
                  <rect className="part" width={Math.max(2, (140 * c.n) / most)} height="7" />
                </svg>
              </td>
              <td className="right">
                <b>{c.n.toLocaleString("en")}</b>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Dots({ rows }: { rows: Row[] }) {
  const { ref, width } = useSize<HTMLDivElement>();
  const outlines = useOutlines("110m");
  const height = Math.round(width * 0.51);
  const projection = useMemo(
    () =>
      geoNaturalEarth1().fitExtent(
        [
          [0, 2],
          [Math.max(100, width), Math.max(60, height - 2)],
        ],
        { type: "Sphere" },
      ),
    [width, height],
  );
  const path = geoPath(projection).digits(1);
  const places = new Map<string, { at: [number, number]; n: number; name: string }>();
  for (const r of rows) {
    if (r.latitude === null || r.longitude === null) continue;
    const key = `${r.latitude},${r.longitude}`;
    const one = places.get(key);
    if (one) one.n++;
    else {
      const at = projection([r.longitude, r.latitude]);
      if (at) places.set(key, { at, n: 1, name: r.city ?? r.region ?? r.country ?? "" });
    }
  }
  const list = [...places.values()].sort((a, b) => b.n - a.n);
  return (
    <div ref={ref} className="many-map">
      <svg width={width} height={height} role="img" aria-label={`${list.length} places; the table has them.`}>
        <path className="map-water" d={path({ type: "Sphere" }) ?? ""} />
        {outlines && <path className="map-land" d={path(outlines.land) ?? ""} />}
        {list.map((p) => (
          <circle
            key={p.at.join()}
            className="coverage-circle"
            cx={p.at[0]}
            cy={p.at[1]}
            r={2.6 + Math.min(12, 1.15 * Math.sqrt(p.n))}
          >
            <title>{`${p.name}, ${p.n.toLocaleString("en")}`}</title>
          </circle>
        ))}
      </svg>
    </div>
  );
}

/** Rejects groups what was no address by its reason. */
function Rejects({ rejects }: { rejects: Row[] }) {
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

function table(head: string[], rows: (string | number | null)[][]): string {
  return [head.join(","), ...rows.map((r) => r.map(csvCell).join(","))].join("\r\n") + "\r\n";
}

function answersCSV(rows: Row[]): string {
  return table(
    [
      "line",
      "input",
      "address",
      "kind",
      "skipped",
      "level",
      "country_code",
      "region",
      "city",
      "latitude",
      "longitude",
      "radius_km",
      "time_zone",
      "problem",
    ],
    rows.map((r) => [
      r.line,
      r.input,
      r.address,
      r.kind,
      String(r.aside),
      r.level,
      r.code,
      r.region,
      r.city,
      r.latitude,
      r.longitude,
      r.radius,
      r.zone,
      r.problem,
    ]),
  );
}

/** useSave gives what saves a text as a file; presentation masks what is in it. */
function useSave() {
  const { presenting } = usePreferences();
  return (name: string, text: string) => save(name, presenting ? maskText(withoutCodes(text)) : text);
}

function save(name: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(url), 1000);
}
