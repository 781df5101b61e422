import { App, Button, Popconfirm } from "antd";
import { useEffect, useRef } from "react";
import { api, unwrap, type Trail, type Visit } from "../../api/client";
import { useAction } from "../../api/changes";
import { canDraw, Fact, Facts, PlaceHead } from "../../features/card/CardView";
import { DecisionChip } from "../../features/gate/outcome";
import { EvidenceBlocks } from "../../features/card/EvidenceTable";
import { counted, clockTime, placeName, unverified } from "../../components/format";
import { Icon } from "../../components/icons";
import { shown as withoutCodes } from "../../features/presentation/veil";
import { Addr, Fold, MiniTrail, Pin, Prose } from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { PlaceMap } from "../../features/map/PlaceMap";

/** VisitPanel is one visit: map, place, facts, trail and evidence. */
export function VisitPanel({ visit, onClose }: { visit: Visit; onClose: () => void }) {
  const { message } = App.useApp();
  const { presenting } = usePreferences();
  const { card, trail } = visit;
  const w = card.location;
  const top = useRef<HTMLElement>(null);
  useEffect(() => {
    top.current?.scrollTo({ top: 0 });
  }, [visit.id]);
  const copy = async () => {
    const text = JSON.stringify(visit, null, 2);
    await navigator.clipboard.writeText(presenting ? withoutCodes(text) : text);
    void message.success("Copied.");
  };
  const { change: erase } = useAction<unknown>({
    call: () => unwrap(api.POST("/v1/visits/erase", { body: { id: visit.id } })),
    stale: ["visits", "places", "report", "timeline"],
    done: () => {
      onClose();
      return "Erased.";
    },
  });
  return (
    <aside className="panel visit" aria-label="Open visit" ref={top}>
      <div className="visit-map">
        {canDraw(card) && (
          <PlaceMap
            latitude={w.latitude ?? 0}
            longitude={w.longitude ?? 0}
            radiusKm={w.radius_km ?? 0}
            name={placeName(w)}
            wide={w.level === "country"}
          />
        )}
        <Button
          className="visit-close"
          icon={<Icon name="close" />}
          aria-label="Close the visit"
          onClick={onClose}
        />
      </div>
      <div className="visit-body">
        <PlaceHead
          card={card}
          aside={
            <span className="small second when">
              <time dateTime={visit.time}>{clockTime(visit.time)}</time>
              {card.clock.local_time && <span>{card.clock.local_time.slice(11, 16)} there</span>}
            </span>
          }
        />
        <Facts card={card}>
          <Fact name="Page">
            <code>{visit.path}</code>
          </Fact>
          <Fact name="Referrer">
            {visit.referrer ? (
              <span className="breakable">{visit.referrer}</span>
            ) : (
              <span className="second">none</span>
            )}
          </Fact>
          {card.gate && card.gate.by !== "nothing" && (
            <Fact name="Gate">
              <DecisionChip decision={card.gate} />{" "}
              <span className="small second">
                <Prose text={card.gate.reason} />
              </span>
            </Fact>
          )}
          {visit.link && (
            <Fact name="Link">
              <span className="breakable">{visit.link}</span>
            </Fact>
          )}
          {visit.attributes && (
            <Fact name="Attributes">
              <code className="breakable">{withoutCodes(JSON.stringify(visit.attributes))}</code>
            </Fact>
          )}
          <Fact name="User agent">
            <span className="breakable">
              {visit.user_agent ?? <span className="second">none was sent</span>}
            </span>
          </Fact>
        </Facts>
      </div>
      <Fold title="Trail" extra={<MiniTrail trail={trail} />} summary={trailSummary(trail)}>
        <Hops trail={trail} />
      </Fold>
      {card.evidence.length > 0 && (
        <Fold title="Evidence" summary={counted(new Set(card.evidence.map((e) => e.source)).size, "source")}>
          <EvidenceBlocks card={card} />
        </Fold>
      )}
      <div className="visit-foot">
        <Button icon={<Icon name="copy" />} onClick={() => void copy()}>
          Copy visit
        </Button>
        <Popconfirm
          title="Erase this visit?"
          description="The visit and its share of the counts are deleted. This cannot be undone."
          okText="Erase"
          okButtonProps={{ danger: true }}
          onConfirm={erase}
        >
          <Button danger type="text" className="erase">
            Erase
          </Button>
        </Popconfirm>
      </div>
    </aside>
  );
}

const ordinals = ["first", "second", "third", "fourth", "fifth", "sixth", "seventh"];

function trailSummary(trail: Trail): string {
  const i = trail.hops.findIndex((h) => h.verdict === "visitor");
  if (i < 0) return "not found";
  if (trail.hops.length === 1) return "the peer itself";
  return `${ordinals[i] ?? `${i + 1}th`} of ${ordinalCount(trail.hops.length + trail.omitted)}`;
}

const counts = ["none", "one", "two", "three", "four", "five", "six", "seven"];
const ordinalCount = (n: number) => counts[n] ?? String(n);

function Hops({ trail }: { trail: Trail }) {
  const loose = unverified(trail);
  return (
    <>
      {loose > 0 && (
        <p className="loose">
          <b>{loose === 1 ? "One address is" : `${loose} addresses are`} left of the visitor;</b>{" "}
          {loose === 1 ? "it was" : "they were"} not trusted.
        </p>
      )}
      <ol className="hops">
        {trail.hops.map((hop, i) => (
          <li key={i}>
            <Pin verdict={hop.verdict} />
            <div>
              <Addr text={hop.text} subject={hop.verdict === "visitor"} />{" "}
              <span className="small second">
                {hop.source === "peer" ? "peer" : `${hop.source}, ${hop.index} of ${hop.of}`}
              </span>
              <p className="small">
                <Prose text={hop.reason} />
              </p>
            </div>
          </li>
        ))}
      </ol>
      {trail.notes.map((n) => (
        <p key={n} className="small second">
          <Prose text={n} />
        </p>
      ))}
    </>
  );
}
