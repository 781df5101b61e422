import "./lookup.css";
import { App, Button, Input, Segmented } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Card } from "../../api/client";
import { useCard, useSites } from "../../api/queries";
import { useRoute } from "../../components/addressParam";
import { shown as withoutCodes } from "../../features/presentation/veil";
import { canDraw, Facts, PlaceHead } from "../../features/card/CardView";
import { EvidenceBlocks, EvidenceTable } from "../../features/card/EvidenceTable";
import { placeName } from "../../components/format";
import { Icon } from "../../components/icons";
import { Addr } from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { NoRangeData, useHasRangeData } from "../../components/NoRangeData";
import { Bars, Empty, Failed } from "../../components/states";
import { PlaceMap } from "../../features/map/PlaceMap";
import { toGeoJSON } from "./geojson";
import { useRecent } from "./useRecent";

/** LookupPage answers for one address: card, circle and evidence. */
export function LookupPage() {
  const [params, change] = useRoute();
  const { presenting } = usePreferences();
  const address = params.get("address") ?? "";
  const [all, setAll] = useState(false);
  const hasRanges = useHasRangeData();
  const card = useCard(address, all);
  const recent = useRecent(card.data?.address.text ?? null);
  const ask = (text: string) =>
    change((next) => {
      if (text.trim()) next.set("address", text.trim());
      else next.delete("address");
    });
  return (
    <div className="lookup">
      <SearchRow
        key={`${address}${presenting}`}
        address={presenting ? "" : address}
        recent={recent}
        onAsk={ask}
      />
      {address === "" && hasRanges === false && (
        <div className="panel">
          <NoRangeData />
        </div>
      )}
      {address === "" ? (
        <div className="panel">
          <Empty
            title="Ask for any address."
            text="The card says where it is, within how many kilometres, and who says so."
          >
            <Button onClick={() => ask("198.18.3.40")}>
              Try <Addr text="198.18.3.40" />
            </Button>
            <Button onClick={() => ask("10.1.2.3")}>
              Try <Addr text="10.1.2.3" />
            </Button>
          </Empty>
        </div>
      ) : card.isPending ? (
        <div className="panel">
          <Bars label="The card is loading" rows={6} />
        </div>
      ) : card.isError ? (
        <div className="panel">
          <Failed what="There is no card." error={card.error} retry={() => void card.refetch()} />
        </div>
      ) : (
        <Answer card={card.data} all={all} onAll={() => setAll(!all)} />
      )}
    </div>
  );
}

function SearchRow(props: { address: string; recent: string[]; onAsk: (text: string) => void }) {
  const { presenting } = usePreferences();
  const [text, setText] = useState(props.address);
  return (
    <form
      role="search"
      className="searchrow"
      onSubmit={(e) => {
        e.preventDefault();
        props.onAsk(text);
      }}
    >
      <Input
        id="lookup-field"
        className="field mono"
        size="large"
        aria-label="Address to look up"
        placeholder="198.18.3.40 or 2001:db8::1"
        prefix={<Icon name="lookup" />}
        suffix={<kbd aria-hidden="true">Enter</kbd>}
        type={presenting ? "password" : "text"}
        value={text}
        onChange={(e) => setText(e.target.value)}
        spellCheck={false}
        autoComplete="off"
      />
      <Button type="primary" size="large" htmlType="submit">
        Look up
      </Button>
      <Link className="small" to="/lookup/many">
        Many at once
      </Link>
      {props.recent.length > 0 && (
        <p className="recent small">
          <span className="second">Asked before:</span>
          {props.recent.map((r) => (
            <Addr key={r} text={r} link short />
          ))}
        </p>
      )}
    </form>
  );
}

type View = "Card" | "JSON" | "GeoJSON";

function Answer({ card, all, onAll }: { card: Card; all: boolean; onAll: () => void }) {
  const { message } = App.useApp();
  const { presenting } = usePreferences();
  const [view, setView] = useState<View>("Card");
  const raw = JSON.stringify(view === "GeoJSON" ? toGeoJSON(card) : card, null, 2);
  const text = presenting ? withoutCodes(raw) : raw;
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    void message.success("Copied.");
  };
  const w = card.location;
  const template = useSites().data?.map_link;
  const mapLink =
    template &&
    template.replace("{latitude}", String(w.latitude)).replace("{longitude}", String(w.longitude));
  const tools = (
    <span className="tools">
      <Segmented<View>
        options={["Card", "JSON", "GeoJSON"]}
        value={view}
        onChange={setView}
        aria-label="View"
      />
      <Button icon={<Icon name="copy" />} onClick={() => void copy()} aria-label="Copy as JSON">
        Copy
      </Button>
    </span>
  );
  return (
    <>
      <div className={canDraw(card) ? "answer" : "answer alone"}>
        <section className="panel answer-card" aria-label="Card">
          {view === "Card" ? (
            <>
              <PlaceHead card={card} aside={tools} />
              <Facts card={card} />
            </>
          ) : (
            <>
              <div className="placehead-row">
                <h2 className="serif place">{placeName(w)}</h2>
                {tools}
              </div>
              <pre className="json mono" tabIndex={0} aria-label={`The card as ${view}`}>
                {text}
              </pre>
            </>
          )}
        </section>
        {canDraw(card) && (
          <section className="panel answer-map" aria-label="Map">
            <PlaceMap
              latitude={w.latitude ?? 0}
              longitude={w.longitude ?? 0}
              radiusKm={w.radius_km ?? 0}
              name={placeName(w)}
              wide={w.level === "country" || w.level === "continent"}
            />
            <p className="note small">
              The circle is the answer; its middle is not a street.
              {mapLink && (
                <>
                  {" "}
                  <a href={mapLink} target="_blank" rel="noreferrer">
                    Open a map outside
                  </a>
                </>
              )}
            </p>
          </section>
        )}
      </div>
      {card.evidence.length > 0 && (
        <section className="panel" aria-labelledby="evidence-title">
          <div className="panel-head keys-head">
            <h2 className="panel-title" id="evidence-title">
              Evidence
            </h2>
            <span className="small second">The most specific range of the highest-ranked source wins.</span>
            {card.address.text && (
              <Button size="small" aria-pressed={all} onClick={onAll}>
                {all ? "Only the deciding sources" : "Every range"}
              </Button>
            )}
          </div>
          <div className="wide-only">
            <EvidenceTable card={card} />
          </div>
          <div className="phone-only">
            <EvidenceBlocks card={card} />
          </div>
        </section>
      )}
    </>
  );
}
