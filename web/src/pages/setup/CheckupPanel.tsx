import { Heads } from "../../components/Heads";
import { App, Button } from "antd";
import { Link } from "react-router";
import type { Checkup } from "../../api/client";
import { useCheckup } from "../../api/queries";
import { clockTime } from "../../components/format";
import { Icon } from "../../components/icons";
import { shown as withoutCodes } from "../../features/presentation/veil";
import { maskText } from "../../features/presentation/mask";
import { Addr, Prose } from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { Bars, Failed } from "../../components/states";

/** CheckupPanel says what is wrong with the set-up, with evidence by peer and the lines that mend it. */
export function CheckupPanel() {
  const checkup = useCheckup();
  if (checkup.isPending)
    return (
      <section className="panel">
        <Bars label="The checkup is loading" rows={3} />
      </section>
    );
  if (checkup.isError)
    return (
      <section className="panel">
        <Failed
          what="The checkup could not be loaded."
          error={checkup.error}
          retry={() => void checkup.refetch()}
        />
      </section>
    );
  return <Verdict report={checkup.data} />;
}

function Verdict({ report }: { report: Checkup }) {
  const findings = report.findings.filter((f) => !f.name.startsWith("refused-")); // which have a panel of their own
  const first = findings.find((f) => f.state === "attention");
  const more = findings.filter((f) => f.state === "attention" && f !== first);
  const others = findings.filter((f) => f.state !== "attention");
  const lines = first?.lines ?? [];
  return (
    <section className={first ? "panel checkup attention" : "panel checkup"} aria-labelledby="checkup-title">
      <div className={lines.length > 0 ? "checkup-top two-columns" : "checkup-top"}>
        <div className="checkup-main">
          <h2 className="serif checkup-title" id="checkup-title">
            {report.state === "attention" && (
              <span className="attention-dot" role="img" aria-label="needs attention" />
            )}
            {report.state === "ok" && <Icon name="check" />}
            <Prose
              text={
                (first ?? report.state !== "attention")
                  ? report.title
                  : "Some requests are refused: see below."
              }
            />
          </h2>
          {first && (
            <p>
              <Prose text={first.text} />
            </p>
          )}
          {report.peers.length > 0 && <Peers report={report} />}
          <p className="small second">
            From {report.requests === 1 ? "1 request" : `${report.requests.toLocaleString("en")} requests`}{" "}
            since {clockTime(report.since)}. Judged again every minute. <Link to="/trail">Try a request</Link>
          </p>
        </div>
        {lines.length > 0 && <Lines lines={lines} inProxy={first?.where === "proxy"} />}
      </div>
      {more.map((f) => (
        <div key={f.name + f.title} className="checkup-top two-columns checkup-more">
          <div className="checkup-main">
            <h3 className="panel-title">
              <span className="attention-dot" role="img" aria-label="needs attention" />{" "}
              <Prose text={f.title} />
            </h3>
            <p>
              <Prose text={f.text} />
            </p>
          </div>
          {f.lines.length > 0 && <Lines lines={f.lines} inProxy={f.where === "proxy"} />}
        </div>
      ))}
      {others.length > 0 && (
        <ul className="checkup-row">
          {others.map((f) => (
            <li key={f.name + f.title}>
              <span className="okline">
                <Icon name="check" /> <Prose text={f.title} />
              </span>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

function Peers({ report }: { report: Checkup }) {
  return (
    <div className="scroll">
      <table className="peers">
        <Heads of={["Peer", ">Requests", "Headers", "Trusted", ">Visitors found"]} />
        <tbody>
          {report.peers.slice(0, 5).map((p) => (
            <tr key={p.peer}>
              <td>
                <Addr text={p.peer} />
              </td>
              <td className="right">{p.requests.toLocaleString("en")}</td>
              <td className="small">
                {Object.entries(p.headers)
                  .map(([name, n]) => (n === p.requests ? `${name}, always` : `${name} in ${n}`))
                  .join("; ") || <span className="second">none</span>}
              </td>
              <td>{p.trusted ? "yes" : <b>no rule</b>}</td>
              <td className="right">{p.visitors >= 64 ? "64 and more" : p.visitors}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Lines are configuration lines to copy. */
export function Lines({ lines, inProxy = false }: { lines: string[]; inProxy?: boolean }) {
  const { message } = App.useApp();
  const { presenting } = usePreferences();
  const text = lines.join("\n");
  const shown = presenting ? maskText(withoutCodes(text)) : text;
  return (
    <div className="lines">
      <b>{inProxy ? "In the configuration of the proxy" : "Add to the configuration"}</b>
      <pre className="mono">{shown}</pre>
      <Button
        icon={<Icon name="copy" />}
        onClick={() => void navigator.clipboard.writeText(shown).then(() => message.success("Copied."))}
      >
        Copy the lines
      </Button>
    </div>
  );
}
