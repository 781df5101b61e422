import type { Card } from "../../api/client";

/** toGeoJSON puts a card into a feature (RFC 7946); the radius stands in its properties. */
export function toGeoJSON(card: Card) {
  const { latitude, longitude, ...rest } = card.location;
  return {
    type: "Feature",
    geometry:
      latitude === null || longitude === null ? null : { type: "Point", coordinates: [longitude, latitude] }, // longitude first
    properties: { address: card.address.text, ...rest },
  };
}
