import { Heads } from "../../components/Heads";
import { Button } from "antd";
import { Link } from "react-router";
import type { Hop, ProxySettings, Trail } from "../../api/client";
import { useCard, useTrail, type Asked } from "../../api/queries";
import { lookupPath } from "../../components/addressParam";
import { km, placeName } from "../../components/format";
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
import { describe, variants } from "./settings";

export function Answer({ trail }: { trail: Trail }) {
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

export function Others({
  asked,
  inUse,
  trail,
}: {
  asked: Asked;
  inUse: ProxySettings;
  trail: Trail | undefined;
}) {
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
        ) : trail.isError ? (
          <span className="second">could not be explained</span>
        ) : trail.data?.visitor ? (
          <Addr text={trail.data.visitor} subject={props.current} />
        ) : (
          <b>not found</b>
        )}
      </td>
      <td>
        {w && w.level !== "none"
          ? [placeName(w), w.names.country].filter((n, i, all) => n && all.indexOf(n) === i).join(", ")
          : card && <span className="second">{card.address.skipped ? "skipped" : "location unknown"}</span>}
      </td>
      <td className="second">
        <Prose text={trail.data ? describe(trail.data, props.settings) : ""} />
      </td>
    </tr>
  );
}
