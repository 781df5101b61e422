import { type RefObject } from "react";
import { km } from "../../components/format";
import { Icon } from "../../components/icons";
import { scaleBar } from "../../features/map/world";
import { type WorldHandle } from "../../features/map/WorldMap";

export type Kind = "Visits" | "Share by country";

/** ZoomButtons are what the wheel and the keys do too. */
export function ZoomButtons({ world }: { world: RefObject<WorldHandle | null> }) {
  return (
    <div className="map-zoom" role="group" aria-label="Zoom">
      <button type="button" aria-label="Zoom in" onClick={() => world.current?.zoomBy(1.6)}>
        <Icon name="plus" />
      </button>
      <button type="button" aria-label="Zoom out" onClick={() => world.current?.zoomBy(1 / 1.6)}>
        <Icon name="minus" />
      </button>
      <button type="button" aria-label="Show all visits" onClick={() => world.current?.fit()}>
        <Icon name="fit" />
      </button>
    </div>
  );
}

/** Legend explains circles or shades, and how long a distance is. */
export function Legend({ kind, pixelsPerKm }: { kind: Kind; pixelsPerKm: number }) {
  const bar = pixelsPerKm > 0 ? scaleBar(pixelsPerKm, 90) : null;
  return (
    <>
      {kind === "Share by country" && (
        <div className="map-legend small">
          <span>few</span>
          {[1, 2, 3, 4, 5].map((n) => (
            <i key={n} className={`shade step${n}`} aria-hidden="true" />
          ))}
          <span>many visits; each shade is twice the one before</span>
        </div>
      )}
      <div className="map-legend small" hidden={kind !== "Visits"}>
        <span>
          <svg viewBox="0 0 14 14" className="map key" aria-hidden="true">
            <circle className="cluster" cx="7" cy="7" r="6" />
          </svg>
          several places
        </span>
        <span>
          <svg viewBox="0 0 14 14" className="map key" aria-hidden="true">
            <circle className="ring dot" cx="7" cy="7" r="5.5" />
          </svg>
          true to its radius
        </span>
        <span>
          <svg viewBox="0 0 14 14" className="map key" aria-hidden="true">
            <circle className="ring wide" cx="7" cy="7" r="5.5" />
          </svg>
          country level only
        </span>
        {bar && (
          <span>
            <svg width={bar.pixels + 2} height="8" className="map key bare" aria-hidden="true">
              <path className="scale" d={`M1 1v5h${bar.pixels}v-5`} />
            </svg>
            {km(bar.km)}
          </span>
        )}
      </div>
    </>
  );
}
