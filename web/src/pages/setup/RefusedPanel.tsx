import { App, Button } from "antd";
import dayjs from "dayjs";
import { Fragment, useRef, useState, type KeyboardEvent, type ReactNode } from "react";
import { Link } from "react-router";
import type { RefusedHeld, RefusedKind } from "../../api/client";
import { useRefusedRequests } from "../../api/queries";
import { clockTime } from "../../components/format";
import { Icon } from "../../components/icons";
import { AttentionChip, Prose } from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { useSite } from "../../components/site";
import { Bars, Empty, Failed } from "../../components/states";
import { tablet, useNarrow } from "../../components/useNarrow";
import { maskText } from "../../features/presentation/mask";
import { shown as withoutCodes } from "../../features/presentation/veil";
import { barHeight, isAside, putAside } from "./refused";

/** RefusedPanel shows what was refused before a visit was made of it, and the lines that mend it. */
export function RefusedPanel() {
  const { site } = useSite();
  const { data, isError, error, refetch } = useRefusedRequests(site?.host ?? "");
  return (
    <section className="panel refused" aria-labelledby="refused-title">
      <div className="panel-head">
        <h2 className="panel-title" id="refused-title">
          Requests that were refused
        </h2>
        <span className="small second grow">before a visit was made of them</span>
        {data !== undefined && data.refused.length > 0 && (
          <span className="small">
            <b>{data.last_hour.toLocaleString("en")}</b> in the last hour
          </span>
        )}
      </div>
      {data !== undefined ? (
        <Rows all={data.refused} held={data.held} />
      ) : isError ? (
        <Failed what="The refused requests could not be loaded." error={error} retry={() => void refetch()} />
      ) : (
        <Bars label="Refused requests are loading" rows={3} />
      )}
    </section>
  );
}

const keyOf = (r: RefusedKind) => `${r.kind} ${r.site ?? ""} ${r.detail}`;

function Rows({ all, held }: { all: RefusedKind[]; held: RefusedHeld }) {
  const narrow = useNarrow(tablet);
  const [, again] = useState(0);
  const rows = all.filter((r) => !isAside(keyOf(r), r.last_week));
  const [chosen, setChosen] = useState<string | null>(null);
  const list = useRef<HTMLTableSectionElement>(null);
  const away = all.length - rows.length;
  if (all.length === 0) return <None held={held} />;
  if (rows.length === 0)
    return <Empty title="All of it is put away." text="What doubles comes back by itself." />;
  const now = rows.find((r) => keyOf(r) === chosen) ?? (narrow ? undefined : rows[0]);
  const go = (event: KeyboardEvent, at: number) => {
    const next = event.key === "ArrowDown" ? at + 1 : event.key === "ArrowUp" ? at - 1 : -1;
    const row = rows[next];
    if (row === undefined) return;
    event.preventDefault();
    setChosen(keyOf(row));
    list.current?.querySelectorAll<HTMLElement>("tr.refused-row button")[next]?.focus();
  };
  const detail = now && (
    <Detail
      key={keyOf(now)}
      of={now}
      putAway={() => {
        putAside(keyOf(now), now.last_week);
        setChosen(null);
        again((n) => n + 1);
      }}
    />
  );
  const hour = Math.max(1, ...rows.flatMap((r) => r.hour));
  const day = Math.max(1, ...rows.flatMap((r) => r.day));
  return (
    <>
      <div className="refused-columns">
        <div className="scroll">
          <table className="evidence refused-table">
            <thead>
              <tr>
                <th scope="col">Reason</th>
                <th scope="col">Site</th>
                <th scope="col">Last hour</th>
                <th scope="col">Last day</th>
              </tr>
            </thead>
            <tbody ref={list}>
              {rows.map((r, at) => (
                <Fragment key={keyOf(r)}>
                  <tr
                    className={r === now ? "refused-row chosen" : "refused-row"}
                    onClick={() => setChosen(narrow && r === now ? null : keyOf(r))}
                  >
                    <td>
                      <button
                        type="button"
                        className="rowbutton"
                        aria-pressed={r === now}
                        onKeyDown={(event) => go(event, at)}
                      >
                        {r.title}
                      </button>{" "}
                      {r.is_new && <AttentionChip>new since {dayjs(r.first).format("HH:mm")}</AttentionChip>}
                      <div className="small second breakable">
                        <Prose text={r.detail || "others"} />
                      </div>
                    </td>
                    <td className="small">{r.site ?? "none"}</td>
                    <td>
                      <Figures of={r.hour} most={hour} sum={r.last_hour} what="by five minutes" />
                    </td>
                    <td>
                      <Figures of={r.day} most={day} sum={r.last_day} what="by the hour" />
                    </td>
                  </tr>
                  {narrow && r === now && (
                    <tr>
                      <td colSpan={4}>{detail}</td>
                    </tr>
                  )}
                </Fragment>
              ))}
            </tbody>
          </table>
        </div>
        {!narrow && detail}
      </div>
      <p className="small second refused-foot">
        <Icon name="gate" /> What a gate refuses stands under <Link to="/gate">Gate</Link>. Kept for 7 days:
        reason, site, counts and one example of each, without address, agent or body.
        {away > 0 && ` ${away === 1 ? "One is" : `${away} are`} put away.`}
      </p>
    </>
  );
}

/** Figures are bars by time, on the scale of their column, and their sum. */
function Figures(props: { of: number[]; most: number; sum: number; what: string }) {
  return (
    <span className="refused-figures">
      <span
        className="refused-bars"
        role="img"
        aria-label={`${props.what}: ${props.of.map((n) => String(n)).join(", ")}`}
      >
        {props.of.map((n, i) => (
          <i key={i} style={{ height: `${barHeight(n, props.most)}px` }} />
        ))}
      </span>
      {props.sum === 0 ? <span className="second">0</span> : <b>{props.sum.toLocaleString("en")}</b>}
    </span>
  );
}

function Detail({ of: r, putAway }: { of: RefusedKind; putAway: () => void }) {
  const { message } = App.useApp();
  const { presenting } = usePreferences();
  const shown = (text: string) => (presenting ? maskText(withoutCodes(text)) : text);
  const lines = shown(r.lines.join("\n"));
  const e = r.example;
  const asked: [string, string][] = [
    ["Host", e.host],
    ["Origin", e.origin ?? ""],
    ["Key", e.key ? `${e.key}…` : ""],
  ];
  return (
    <div className="refused-detail">
      <h3 className="serif">{r.title}</h3>
      <p>
        <Prose text={r.text} />
      </p>
      <p className="small second">The last one, {clockTime(e.time)}. No address is kept of it.</p>
      <pre className="mono refused-example">
        <span className="spread">
          <span>
            {e.method} {e.route || "–"}
          </span>
          <b className="bad">
            {e.status} {r.kind}
          </b>
        </span>
        {asked
          .filter(([, value]) => value !== "")
          .map(([name, value]) => (
            <span key={name}>
              {`\n${`${name}:`.padEnd(8)}`}
              {shown(value)}
            </span>
          ))}
      </pre>
      {r.lines.length > 0 && (
        <div className="lines">
          <b>
            <Prose text={r.question} />
          </b>
          <pre className="mono">{lines}</pre>
        </div>
      )}
      <Actions>
        {r.lines.length > 0 && (
          <Button
            type="primary"
            icon={<Icon name="copy" />}
            onClick={() => void navigator.clipboard.writeText(lines).then(() => message.success("Copied."))}
          >
            {r.lines.length === 1 ? "Copy the line" : "Copy the lines"}
          </Button>
        )}
        <Button onClick={putAway}>Not mine</Button>
      </Actions>
    </div>
  );
}

const Actions = ({ children }: { children: ReactNode }) => <div className="refused-actions">{children}</div>;

const count = (n: number, one: string, many: string) =>
  n === 1 ? `1 ${one}` : `${n.toLocaleString("en")} ${many}`;

/** None says that nothing was refused, and what requests are held against. */
function None({ held }: { held: RefusedHeld }) {
  const rows: [string, string][] = [
    ["Origin not listed", held.origins === 1 ? "1 origin is allowed" : `${held.origins} origins are allowed`],
    ["Key not known", held.keys === 1 ? "1 key is in force" : `${held.keys} keys are in force`],
    ["Host not served", `${count(held.hosts, "name", "names")} beside the sites’ own`],
    ["Too many", `${held.visitor_per_second} a second of one address`],
  ];
  return (
    <div className="refused-none">
      <div>
        <h3 className="serif okline">
          <Icon name="check" /> None in the last 7 days.
        </h3>
        <p className="second">
          Should one be refused, its reason, an example without address and the line that mends it stand here.
        </p>
      </div>
      <table className="peers">
        <tbody>
          {rows.map(([what, held]) => (
            <tr key={what}>
              <td>{what}</td>
              <td className="second">{held}</td>
              <td className="right">
                <b>none</b>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
