import { counted } from "../../components/format";
import { App, Button, Segmented, Select } from "antd";
import dayjs from "dayjs";
import { useState } from "react";
import { Link } from "react-router";
import { api, unwrap } from "../../api/client";
import { useAction } from "../../api/changes";
import { useClicks, type LinkFigures, type LinkReport, type TrackedLink } from "../../api/links";
import { Icon } from "../../components/icons";
import { Country, Prose } from "../../components/parts";
import { Bars, Failed } from "../../components/states";
import { phone, useNarrow } from "../../components/useNarrow";
import { ClicksChart } from "./ClicksChart";
import { LinkPlaces } from "./LinkPlaces";
import { leftOut, visitsOf, wholeStand, whom } from "./words";

const spans = [
  { label: "7 days", value: 7 },
  { label: "30", value: 30 },
  { label: "90", value: 90 },
];

/** LinkPanel says of one link where it leads, and who followed it. */
export function LinkPanel(props: {
  code: string;
  others: TrackedLink[];
  onClose: (() => void) | undefined;
  onEdit: (link: TrackedLink) => void;
}) {
  const [days, setDays] = useState<number>(7);
  const [compare, setCompare] = useState<string | null>(null);
  const report = useClicks(props.code, days, compare ?? "");
  if (report.isPending)
    return (
      <section className="panel link-panel" aria-label="The link that is open">
        <Bars label="The link is loading" />
      </section>
    );
  if (report.isError)
    return (
      <section className="panel link-panel" aria-label="The link that is open">
        <Failed
          what="The link could not be loaded."
          error={report.error}
          retry={() => void report.refetch()}
          after="It is followed all the same."
        />
        {props.onClose && <Button onClick={props.onClose}>Back to the links</Button>}
      </section>
    );
  const { link } = report.data.of;
  return (
    <section className="panel link-panel" aria-label={`Link ${link.code}`}>
      <div className="link-body">
        <Head link={link} onClose={props.onClose} />
        <LeadsTo of={report.data.of} />
        <ClicksChart
          report={report.data}
          span={
            <Segmented<number>
              aria-label="How many days"
              size="small"
              value={days}
              onChange={setDays}
              options={spans}
            />
          }
        />
        <LinkPlaces report={report.data} />
        <Counts of={report.data.of} />
        <LeftOut report={report.data} />
      </div>
      <Foot
        link={link}
        others={props.others}
        compare={compare}
        onCompare={setCompare}
        onEdit={() => props.onEdit(link)}
      />
    </section>
  );
}

function Head({ link, onClose }: { link: TrackedLink; onClose: (() => void) | undefined }) {
  const { message } = App.useApp();
  const small = useNarrow(phone);
  const qr = `/v1/links/${link.code}/qr`;
  const shown = link.url.replace(/^https?:\/\//, "");
  return (
    <div className="link-head">
      <div className="link-title">
        <h2 className="serif">
          <Prose text={link.name || link.code} />
        </h2>
        {onClose && (
          <button type="button" className="iconbutton" aria-label="Close the link" onClick={onClose}>
            <Icon name="close" />
          </button>
        )}
      </div>
      <div className="link-about">
        <div>
          <code className="addr subject link-url">{shown}</code>
          <p className="small second link-stand">
            {link.state === "active" && <Icon name="check" />} {wholeStand(link, dayjs())}
          </p>
          <div className="link-buttons">
            <Button
              size="small"
              icon={<Icon name="copy" />}
              onClick={() =>
                void navigator.clipboard.writeText(link.url).then(() => message.success("Copied."))
              }
            >
              Copy
            </Button>
            <Button size="small" href={`${qr}.svg`} download={`${link.code}.svg`} icon={<Icon name="qr" />}>
              {small ? "QR" : "QR as SVG"}
            </Button>
            <Button size="small" href={`${qr}.png`} download={`${link.code}.png`}>
              PNG
            </Button>
          </div>
        </div>
        <img className="link-qr" src={`${qr}.svg`} alt={`QR code of ${shown}`} width={82} height={82} />
      </div>
      {link.note && link.name && (
        <p className="small second">
          <Prose text={link.note} />
        </p>
      )}
    </div>
  );
}

function LeadsTo({ of }: { of: LinkFigures }) {
  const clicks = new Map(of.destinations.map((d) => [d.key, d.clicks]));
  const known = new Set([...of.link.routes.map((r) => r.destination), of.link.destination]);
  const before = of.destinations.filter((d) => !known.has(d.key));
  const number = (to: string) => (clicks.get(to) ?? 0).toLocaleString("en");
  const names = new Intl.DisplayNames(["en"], { type: "region" });
  return (
    <div className="link-part">
      <div className="link-part-head">
        <h3>Leads to</h3>
        <span className="small second">{of.link.routes.length > 0 ? "first match, clicks" : "clicks"}</span>
      </div>
      <ul className="link-routes">
        {of.link.routes.map((r, i) => (
          <li key={i}>
            <span className="link-whom">
              {r.countries.map((c) => (
                <Country key={c} code={c} name={names.of(c) ?? c} />
              ))}
              <Prose text={whom(r)} />
            </span>
            <code className="addr link-to">
              <Prose text={r.destination} />
            </code>
            <b>{number(r.destination)}</b>
          </li>
        ))}
        <li>
          <span className="link-whom">{of.link.routes.length > 0 ? "everybody else" : "everybody"}</span>
          <code className="addr link-to">
            <Prose text={of.link.destination} />
          </code>
          <b>{number(of.link.destination)}</b>
        </li>
        {before.map((d) => (
          <li key={d.key} className="second">
            <span className="link-whom">before</span>
            <code className="addr link-to">
              <Prose text={d.name} />
            </code>
            <b>{d.clicks.toLocaleString("en")}</b>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** countsShown is how many rows of a list are shown. */
const countsShown = 5;

function Counts({ of }: { of: LinkFigures }) {
  const lists: [string, LinkFigures["countries"]][] = [
    ["Countries", of.countries],
    ["Referrers", of.referrers],
    ["User agents", of.agents],
  ];
  return (
    <div className="link-counts">
      {lists.map(([title, list]) => (
        <div key={title} className="link-part">
          <h3>{title}</h3>
          <ul className="link-lines">
            {list.slice(0, countsShown).map((c) => (
              <li key={c.key}>
                <span className="cut">
                  <Prose text={c.name || "none"} />
                </span>
                <b>{c.clicks.toLocaleString("en")}</b>
              </li>
            ))}
            {list.length > countsShown && (
              <li className="second">
                <span>{list.length - countsShown} more</span>
                <span>
                  {list
                    .slice(countsShown)
                    .reduce((n, c) => n + c.clicks, 0)
                    .toLocaleString("en")}
                </span>
              </li>
            )}
            {list.length === 0 && <li className="second">none yet</li>}
          </ul>
        </div>
      ))}
    </div>
  );
}

function LeftOut({ report }: { report: LinkReport }) {
  const { code, clicks_not_recorded: lost } = report.of.link;
  const marks = leftOut(report.of.left_out);
  return (
    <div className="link-part link-left small second">
      {marks.length === 0 && <span>Nothing is left out.</span>}
      {marks.length > 0 && (
        <span>
          {marks.map(({ mark, words }, i) => (
            <span key={mark}>
              {i > 0 && ", "}
              <Link to={visitsOf(code, { mark })}>{words}</Link>
            </span>
          ))}{" "}
          left out
        </span>
      )}
      {lost > 0 && <span className="chip attention">{counted(lost, "click")} not recorded</span>}
      {report.of.partial && <span>There were more rows than are read.</span>}
    </div>
  );
}

function Foot(props: {
  link: TrackedLink;
  others: TrackedLink[];
  compare: string | null;
  onCompare: (code: string | null) => void;
  onEdit: () => void;
}) {
  const { link } = props;
  const off = link.state === "disabled";
  const { change, busy } = useAction({
    call: () =>
      unwrap(
        api.PATCH("/v1/links/{code}", { params: { path: { code: link.code } }, body: { disabled: !off } }),
      ),
    stale: ["links", "clicks"],
    done: () => (off ? `${link.code} is followed again.` : `${link.code} is disabled; it answers 410.`),
  });
  return (
    <div className="link-foot">
      <Button icon={<Icon name="pencil" />} onClick={props.onEdit}>
        Edit
      </Button>
      {props.compare === null ? (
        <Button
          disabled={props.others.length === 0}
          onClick={() => props.onCompare(props.others[0]?.code ?? "")}
        >
          Compare
        </Button>
      ) : (
        <Select
          aria-label="Compare with"
          className="link-compare"
          value={props.compare}
          allowClear
          showSearch
          onChange={(code: string | undefined) => props.onCompare(code ?? null)}
          options={props.others.map((l) => ({ value: l.code, label: `with ${l.code}` }))}
        />
      )}
      <Button className="link-disable" type="text" danger={!off} loading={busy} onClick={change}>
        {off ? "Enable" : "Disable"}
      </Button>
    </div>
  );
}
