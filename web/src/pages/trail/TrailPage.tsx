import "./trail.css";
import { Heads } from "../../components/Heads";
import { Button, Input, InputNumber, Segmented, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Hop, ProxySettings, Trail } from "../../api/client";
import { useCard, useCheckup, useTrail, type Asked } from "../../api/queries";
import { lookupPath } from "../../components/addressParam";
import { km, placeName } from "../../components/format";
import { maskText } from "../../features/presentation/mask";
import {
  Addr,
  AttentionChip,
  Flag,
  KindChip,
  LabelChip,
  LevelMark,
  Pin,
  Prose,
  verdictWords,
} from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { Bars, Failed } from "../../components/states";
import { Lines } from "../setup/CheckupPanel";
import { configLines, describe, variants } from "./settings";

const sample = {
  peer: "203.0.113.4",
  text: "X-Forwarded-For: 192.0.2.10, 198.51.100.7, 198.18.7.114, 203.0.113.10\nX-Real-IP: 192.0.2.10\nForwarded: for=_hidden;proto=https\nHost: heronlake.example",
};

type Source = "Pasted" | "This request";

/** TrailPage explains hop by hop how the visitor of a request is found, and what other settings would find. */
export function TrailPage() {
  const inUse = useCheckup().data?.settings;
  const [source, setSource] = useState<Source>("Pasted");
  const [draft, setDraft] = useState(sample);
  const [asked, setAsked] = useState<Asked>(sample);
  const [settings, setSettings] = useState<ProxySettings | null>(null);
  const trail = useTrail(source === "Pasted" ? asked : null, settings);
  const current = settings ?? inUse;
  return (
    <div className="trailpage">
      <section className="panel trail-request" aria-label="Request">
        <div className="placehead-row">
          <h2 className="panel-title">Request</h2>
          <Segmented<Source>
            options={["Pasted", "This request"]}
            value={source}
            onChange={setSource}
            aria-label="Request"
          />
        </div>
        {source === "Pasted" ? (
          <Pasted draft={draft} onChange={setDraft} onExplain={() => setAsked(draft)} />
        ) : (
          <p className="second">The request that this page made to the service.</p>
        )}
        {trail.data && <AsRead trail={trail.data} />}
        {current && <Believed settings={current} changed={settings !== null} onChange={setSettings} />}
        {trail.data && trail.data.notes.length > 0 && (
          <>
            <h3 className="panel-title">Other headers</h3>
            {trail.data.notes.map((n) => (
              <p key={n} className="small second">
                <Prose text={n} />
              </p>
            ))}
          </>
        )}
      </section>
      <section className="panel trail-answer" aria-label="Trail" aria-live="polite">
        {trail.isPending ? (
          <Bars label="The trail is loading" />
        ) : trail.isError ? (
          <Failed
            what="The request could not be explained."
            error={trail.error}
            retry={() => void trail.refetch()}
          />
        ) : (
          <Answer trail={trail.data} />
        )}
      </section>
      {inUse && <Others asked={source === "Pasted" ? asked : null} inUse={inUse} trail={trail.data} />}
      {settings && (
        <section className="panel trail-lines" aria-label="Configuration">
          <Lines lines={configLines(settings)} />
        </section>
      )}
    </div>
  );
}

interface PastedProps {
  draft: { peer: string; text: string };
  onChange: (draft: { peer: string; text: string }) => void;
  onExplain: () => void;
}

function Pasted({ draft, onChange, onExplain }: PastedProps) {
  const { presenting } = usePreferences();
  if (presenting) return <pre className="json mono">{maskText(`peer ${draft.peer}\n${draft.text}`)}</pre>;
  return (
    <form
      className="keyform"
      onSubmit={(e) => {
        e.preventDefault();
        onExplain();
      }}
    >
      <label>
        Peer, the other end of the connection
        <Input
          className="mono"
          value={draft.peer}
          spellCheck={false}
          onChange={(e) => onChange({ ...draft, peer: e.target.value.trim() })}
        />
      </label>
      <label>
        Headers, the output of curl -v, or a HAR file
        <Input.TextArea
          className="mono"
          rows={5}
          value={draft.text}
          spellCheck={false}
          onChange={(e) => onChange({ ...draft, text: e.target.value })}
        />
      </label>
      <div>
        <Button htmlType="submit">Explain it</Button>
      </div>
    </form>
  );
}

/** AsRead shows the believed header again, each address marked by its verdict. */
function AsRead({ trail }: { trail: Trail }) {
  const peer = trail.hops.find((h) => h.source === "peer");
  const listed = trail.hops.filter((h) => h.source !== "peer").reverse();
  return (
    <div className="asread">
      <dl className="mono small">
        {peer && (
          <>
            <dt className="second">peer</dt>
            <dd>
              <Marked hop={peer} />
            </dd>
          </>
        )}
        {listed[0] && (
          <>
            <dt className="second">{listed[0].source}</dt>
            <dd>
              {listed.map((h, i) => (
                <span key={i}>
                  {i > 0 && ", "}
                  <Marked hop={h} />
                </span>
              ))}
            </dd>
          </>
        )}
      </dl>
      <p className="small second legend">
        <span className="marked trusted">trusted</span> <span className="marked visitor">visitor</span>{" "}
        <span className="marked unverified">unverified</span>{" "}
        <span className="marked unreadable">unreadable</span>
      </p>
    </div>
  );
}

function Marked({ hop }: { hop: Hop }) {
  return (
    <span className={`marked ${hop.verdict}`}>
      <Prose text={hop.text} />
    </span>
  );
}

interface BelievedProps {
  settings: ProxySettings;
  changed: boolean;
  onChange: (settings: ProxySettings | null) => void;
}

function Believed({ settings, changed, onChange }: BelievedProps) {
  const { presenting } = usePreferences();
  const headers = ["X-Forwarded-For", "Forwarded", "X-Real-Ip"];
  if (!headers.includes(settings.header)) headers.push(settings.header);
  return (
    <div className="believed">
      <div className="placehead-row">
        <h3 className="panel-title">Believed</h3>
        {changed ? (
          <button type="button" className="textlink" onClick={() => onChange(null)}>
            Back to the current settings
          </button>
        ) : (
          <span className="small second">in use; change it to try</span>
        )}
      </div>
      <div className="fact">
        <span className="second">Header</span>
        <Select
          aria-label="Header"
          value={settings.header}
          options={headers.map((h) => ({ value: h, label: h }))}
          onChange={(header) => onChange({ ...settings, header })}
        />
      </div>
      <div className="fact">
        <span className="second">Trusted proxies</span>
        {presenting ? (
          <span>
            {settings.trusted.map((t) => (
              <Addr key={t} text={t} />
            ))}
          </span>
        ) : (
          <Select
            mode="tags"
            open={false}
            suffixIcon={null}
            aria-label="Trusted proxies"
            tokenSeparators={[" ", ","]}
            value={settings.trusted}
            onChange={(trusted: string[]) => onChange({ ...settings, trusted })}
          />
        )}
      </div>
      <div className="fact">
        <span className="second">Hops</span>
        <span>
          <InputNumber
            aria-label="Hops"
            min={0}
            max={32}
            value={settings.hops}
            onChange={(hops) => onChange({ ...settings, hops: hops ?? 0 })}
          />{" "}
          <span className="small second">0: go by prefixes</span>
        </span>
      </div>
    </div>
  );
}

function Answer({ trail }: { trail: Trail }) {
  const { presenting } = usePreferences();
  const visitor = trail.visitor ?? "";
  const card = useCard(visitor).data;
  const claimed = trail.hops.filter((h) => h.verdict === "unverified").flatMap((h) => h.labels);
  const at = trail.hops.find((h) => h.verdict === "visitor");
  return (
    <>
      <p className="second">{visitor ? "The visitor is" : "The visitor was"}</p>
      <div className="placehead-row">
        <h2 className="trail-visitor">
          {visitor ? <Addr text={visitor} /> : <span className="serif">not found</span>}
        </h2>
        {card && card.location.level !== "none" && (
          <div className="trail-place">
            <span className="country">
              <Flag code={card.location.country_code} />
              <b className="serif">{placeName(card.location)}</b>
            </span>
            <span>
              <LevelMark level={card.location.level} />{" "}
              {card.location.radius_km !== null && (
                <span className="second">within {km(card.location.radius_km)}</span>
              )}
            </span>
          </div>
        )}
        {card?.address.skipped && <KindChip card={card} />}
      </div>
      <p>
        {at && at.of > 0 ? (
          <span className="second">
            obtained from a <b>header</b>, {at.index} of {at.of} in {at.source}
          </span>
        ) : (
          <span className="second">
            <Prose text={trail.reason} />
          </span>
        )}
      </p>
      {trail.own_network && (
        <p className="warning">
          <AttentionChip>own network</AttentionChip> Every hop is a proxy of yours.
        </p>
      )}
      {claimed.length > 0 && (
        <p className="warning">
          <b>Somebody put an address of your “{claimed[0]}” in this header.</b> What stands left of the
          visitor was sent with the request and not written by your proxies. It was not trusted.
        </p>
      )}
      <ol className="bighops">
        {trail.hops.map((hop, i) => (
          <BigHop key={i} hop={hop} />
        ))}
      </ol>
      {trail.omitted > 0 && <p className="small second">… and {trail.omitted} more hops.</p>}
      <div className="trail-foot">
        <span className="small second">Read downwards: from the peer back to the visitor.</span>
        {visitor && (
          <Link to={lookupPath(visitor, presenting)}>
            <Button type="primary" tabIndex={-1}>
              Look up the visitor
            </Button>
          </Link>
        )}
      </div>
    </>
  );
}

function BigHop({ hop }: { hop: Hop }) {
  return (
    <li className={hop.verdict}>
      <Pin verdict={hop.verdict} />
      <div>
        <div className="bighop-head">
          <Addr text={hop.text} subject={hop.verdict === "trusted" || hop.verdict === "visitor"} />
          <span className={`verdict ${hop.verdict}`}>{verdictWords[hop.verdict]}</span>
          {hop.labels.map((l) => (
            <LabelChip key={l} label={l} claimed={hop.verdict === "unverified"} />
          ))}
          {hop.kind && hop.kind !== "public" && <span className="small second">{hop.kind}</span>}
          <span className="small second where">
            {hop.source === "peer" ? "peer, TCP connection" : `${hop.source}, ${hop.index} of ${hop.of}`}
          </span>
        </div>
        <p className="small">
          <Prose text={hop.reason} />
        </p>
      </div>
    </li>
  );
}

function Others({ asked, inUse, trail }: { asked: Asked; inUse: ProxySettings; trail: Trail | undefined }) {
  const list = variants(inUse, trail);
  return (
    <section className="panel trail-others" aria-labelledby="others-title">
      <div className="panel-head">
        <h2 className="panel-title" id="others-title">
          The same request, other settings
        </h2>
      </div>
      <div className="scroll">
        <table className="evidence">
          <Heads of={["Setting", "Visitor", "Location", "What that would mean"]} />
          <tbody>
            {list.map((v) => (
              <OtherRow key={v.name} asked={asked} name={v.name} settings={v.settings} current={v.current} />
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

function OtherRow(props: { asked: Asked; name: string; settings: ProxySettings; current: boolean }) {
  const trail = useTrail(props.asked, props.settings);
  const card = useCard(trail.data?.visitor ?? "").data;
  const w = card?.location;
  return (
    <tr className={props.current ? "chosen" : ""}>
      <td>
        <Prose text={props.name} /> {props.current && <b className="inuse">in use</b>}
      </td>
      <td>
        {trail.isPending ? (
          <span className="second">asking</span>
        ) : trail.data?.visitor ? (
          <Addr text={trail.data.visitor} subject={props.current} />
        ) : (
          <b>not found</b>
        )}
      </td>
      <td>
        {w && w.level !== "none" ? (
          [placeName(w), w.names.country].filter((n, i, all) => n && all.indexOf(n) === i).join(", ")
        ) : (
          <span className="second">{card?.address.skipped ? "skipped" : "location unknown"}</span>
        )}
      </td>
      <td className="second">
        <Prose text={trail.data ? describe(trail.data, props.settings) : ""} />
      </td>
    </tr>
  );
}
