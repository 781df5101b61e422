import { useMemo } from "react";
import type { Place } from "../../api/client";
import { SmallWorld } from "../../features/map/SmallWorld";
import { oppositeOfSun } from "./sun";

const nightSteps = [90, 88, 86, 84, 82, 80, 78, 76];

/** visitsOf is the address of a place's visits in the last hour. */
export function visitsOf(p: Place): string {
  const query = new URLSearchParams({ since: "hour", country_code: p.country_code });
  if (p.city) query.set("city", p.city);
  else query.set("level", p.level);
  return `/visits?${query}`;
}

/** LastHourMap is the world with the visits of the last hour, and the night. */
export function LastHourMap({ places, at }: { places: Place[]; at: Date }) {
  const night = useMemo(() => ({ middle: oppositeOfSun(at), steps: nightSteps }), [at]);
  return (
    <div className="lasthour">
      <SmallWorld places={places} label="Visits of the last hour" what="visits" to={visitsOf} night={night} />
    </div>
  );
}
