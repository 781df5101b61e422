import { Segmented } from "antd";
import { useMemo, useState } from "react";
import type { Level, Place } from "../../api/client";
import type { LinkPlace, LinkReport } from "../../api/links";
import { km } from "../../components/format";
import { Flag, LabelChip, LevelMark } from "../../components/parts";
import { SmallWorld } from "../../features/map/SmallWorld";
import { placeWords, visitsOf } from "./words";

/** rowsShown is how many places the table has until more are asked for. */
const rowsShown = 3;

/** LinkPlaces shows from where a link was followed: a map and its table. */
export function LinkPlaces({ report }: { report: LinkReport }) {
  const { of, compared } = report;
  const [how, setHow] = useState<"Map" | "Table">("Map");
  const places = useMemo(() => of.places.flatMap(asPlace), [of.places]);
  const beside = useMemo(() => new Map(compared?.places.map((p) => [placeWords(p), p.clicks])), [compared]);
  const on = places.reduce((n, p) => n + p.visits, 0);
  const rows = how === "Map" ? of.places.slice(0, rowsShown) : of.places.slice(0, 100);
  return (
    <div className="link-part link-places">
      <div className="link-part-head">
        <h3>Places</h3>
        <span className="small second">
          {on.toLocaleString("en")} on the map, {(of.clicks - on).toLocaleString("en")} without a point
        </span>
        <Segmented<"Map" | "Table">
          aria-label="How places are shown"
          size="small"
          value={how}
          onChange={setHow}
          options={["Map", "Table"]}
        />
      </div>
      {how === "Map" && (
        <div className="link-map">
          <SmallWorld
            places={places}
            label="Where the link was followed"
            what="clicks"
            to={(p) =>
              visitsOf(of.link.code, { country_code: p.country_code, ...(p.city ? { city: p.city } : {}) })
            }
          />
        </div>
      )}
      {of.places.length === 0 ? (
        <p className="second">Nobody has followed it in this time.</p>
      ) : (
        <table className="link-table">
          <thead>
            <tr>
              <th scope="col">Location</th>
              <th scope="col">Level</th>
              <th scope="col" className="right">
                Within
              </th>
              <th scope="col" className="right">
                {compared ? of.link.code : "Clicks"}
              </th>
              {compared && (
                <th scope="col" className="right">
                  {compared.link.code}
                </th>
              )}
            </tr>
          </thead>
          <tbody>
            {rows.map((p, i) => (
              <tr key={i}>
                <td>
                  {p.placeholder !== null ? (
                    <LabelChip label={p.placeholder} />
                  ) : (
                    <span className="country">
                      <Flag code={p.place.country_code} />
                      {placeWords(p)}
                    </span>
                  )}
                </td>
                <td>
                  {isLevel(p.place.level) ? (
                    <LevelMark level={p.place.level} />
                  ) : (
                    <span className="second">not looked up</span>
                  )}
                </td>
                <td className="right">{p.place.radius_km === null ? "–" : km(p.place.radius_km)}</td>
                <td className="right">
                  <b>{p.clicks.toLocaleString("en")}</b>
                </td>
                {compared && (
                  <td className="right">{(beside.get(placeWords(p)) ?? 0).toLocaleString("en")}</td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}

const isLevel = (word: string): word is Level =>
  ["city", "region", "country", "continent", "none"].includes(word);

/** asPlace is a place with a point, as maps draw it; nothing for others. */
function asPlace(p: LinkPlace): Place[] {
  const { place } = p;
  if (place.latitude === null || place.longitude === null || place.country_code === null) return [];
  const name = p.name ?? place.country_code;
  return [
    {
      level: place.level as Level,
      country_code: place.country_code,
      region_code: place.region_code,
      city: place.city,
      names: { country: name, region: place.region_code && name, city: place.city && name },
      latitude: place.latitude,
      longitude: place.longitude,
      radius_km: place.radius_km ?? 0,
      visits: p.clicks,
    },
  ];
}
