import type { Card } from "../../api/client";
import { degrees, km, placeName, wasFound } from "../../components/format";
import { Addr, CodeChip, Flag, KindChip, LabelChip, LevelMark, Prose } from "../../components/parts";

/** PlaceHead names the place, and says how sure that is in one sentence. */
export function PlaceHead({ card, aside }: { card: Card; aside?: React.ReactNode }) {
  const w = card.location;
  const title = w.level === "none" ? (card.address.skipped ? "Skipped" : "Location unknown") : placeName(w);
  const above = [w.names.region, w.names.country, w.names.continent].filter((n) => n && n !== title);
  return (
    <div className="placehead">
      <div className="placehead-row">
        <h2 className="serif place">{title}</h2>
        {aside}
      </div>
      {above.length > 0 && (
        <p className="path second">
          {above.map((name, i) => (
            <span key={name}>
              {i > 0 && <i>/</i>}
              {name === w.names.country && <Flag code={w.country_code} />}
              {name}
            </span>
          ))}
        </p>
      )}
      <div className="sure">
        {!(card.address.skipped && w.level === "none") && (
          <b>
            <LevelMark level={w.level} />
          </b>
        )}
        <p>
          <Sure card={card} />
        </p>
      </div>
    </div>
  );
}

function Sure({ card }: { card: Card }) {
  const w = card.location;
  if (w.latitude === null || w.longitude === null || w.radius_km === null)
    return (
      <Prose text={card.address.reason ?? `No place: ${w.missing["country_code"] ?? "none is known"}.`} />
    );
  return (
    <>
      Somewhere <b>within {km(w.radius_km)}</b> of {degrees(w.latitude)}, {degrees(w.longitude)}
      {card.clock.local_time && (
        <>
          , where it is <b>{card.clock.local_time.slice(11, 16)}</b>
        </>
      )}
      .
    </>
  );
}

const languages = new Intl.DisplayNames(["en"], { type: "language" });
const currencies = new Intl.DisplayNames(["en"], { type: "currency" });

/** Facts lists what a card says, and why what is missing is. */
export function Facts({ card, children }: { card: Card; children?: React.ReactNode }) {
  const { address, location: w, network, clock, money } = card;
  return (
    <dl className="facts">
      <Fact name="Address">
        {address.text ? (
          <Addr text={address.text} subject />
        ) : (
          <Missing
            reason={
              address.placeholder
                ? `“${address.placeholder}” stands for it`
                : (address.reason ?? "it is not kept")
            }
          />
        )}
        {address.family && (
          <span className="second">
            IPv{address.family}, {howObtained(card)}
          </span>
        )}
        <KindChip card={card} />
      </Fact>
      <Fact name="Network">
        {network.range ? <Addr text={network.range} /> : <Missing reason={network.missing["range"]} />}
        {network.as_number !== null && (
          <span>
            AS{network.as_number} {network.operator}
          </span>
        )}
        {network.range && network.as_number === null && (
          <span className="second">AS number: {network.missing["as_number"]}</span>
        )}
      </Fact>
      {children}
      <Fact name="Labels">
        {card.labels.length > 0 ? (
          card.labels.map((l) => <LabelChip key={l} label={l} />)
        ) : (
          <span className="second">none of yours covers it</span>
        )}
      </Fact>
      <Fact name="Locale">
        {languages.of(card.locale.language)} <CodeChip code={card.locale.language} />
        <span className="second">
          {localeReason[card.locale.reason]}
          {card.locale.names.country && card.locale.names.country !== card.location.names.country && (
            <>
              ; in it the country is <span lang={card.locale.language}>{card.locale.names.country}</span>
            </>
          )}
        </span>
        {card.locale.hints.map((hint) => (
          <span className="second" key={hint}>
            {hint}
          </span>
        ))}
      </Fact>
      <Fact name="Clock">
        {clock.time_zone ? (
          <>
            {clock.time_zone}{" "}
            <span className="second">
              UTC{clock.utc_offset}, {nextChange(clock.next_change)}
              {clock.business_hours !== null &&
                `, ${clock.business_hours ? "within" : "outside"} business hours`}
            </span>
          </>
        ) : (
          <Missing reason={w.missing["time_zone"]} />
        )}
      </Fact>
      <Fact name="Money">
        {money.currency_code ? (
          <>
            {currencies.of(money.currency_code)} <CodeChip code={money.currency_code} />
            {money.also.length > 0 && <span className="second">and {money.also.join(", ")}</span>}
            {money.rate?.direction && (
              <span className="second">
                {money.rate.direction}, {money.rate.dated}
              </span>
            )}
          </>
        ) : (
          <Missing reason={w.missing["country_code"] ?? "the country has none of its own"} />
        )}
      </Fact>
      {Object.keys(card.variants).length > 0 && (
        <Fact name="Content">
          {Object.entries(card.variants).map(([set, variant]) => (
            <span key={set}>
              {set} <CodeChip code={variant} />
            </span>
          ))}
        </Fact>
      )}
      {w.city === null && w.level !== "none" && (
        <Fact name="City">
          <Missing what="no city" reason={w.missing["city"]} />
        </Fact>
      )}
      {w.missing["level"] === "town_not_found" && (
        <Fact name="Town">
          <Missing
            what="not found"
            reason={`${w.city ?? "the town"} is not in the gazetteer, so the ${w.level} stands for it`}
          />
        </Fact>
      )}
      <Fact name="Postal code">{w.postal_code ?? <Missing reason={w.missing["postal_code"]} />}</Fact>
    </dl>
  );
}

const localeReason = {
  choice: "as the visitor chose",
  "accept-language": "as the browser asks",
  country: "usual in the country",
  default: "by default",
} as const;

function howObtained(card: Card): string {
  switch (card.address.obtained) {
    case "header":
      return "from the header";
    case "peer":
      return "the peer";
    default:
      return card.address.obtained;
  }
}

function nextChange(at: string | null): string {
  if (!at) return "no clock change planned";
  return `next clock change ${new Date(at).toLocaleDateString("en-GB", { day: "numeric", month: "long" })}`;
}

export function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div className="fact">
      <dt>{name}</dt>
      <dd>{children}</dd>
    </div>
  );
}

/** Missing says that a fact is absent, and why. It is never blank. */
export function Missing({ what = "none", reason }: { what?: string; reason?: string | null | undefined }) {
  return (
    <span>
      <b>{what},</b>{" "}
      <span className="second">
        <Prose text={(reason ?? "nobody says").replace(/\.$/, "")} />
      </span>
    </span>
  );
}

/** canDraw says whether a card has a circle to draw. */
export const canDraw = (card: Card) => wasFound(card) && card.location.radius_km !== null;
