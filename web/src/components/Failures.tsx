import { notifyManager, useQueryClient, type Query } from "@tanstack/react-query";
import { Button } from "antd";
import { useCallback, useEffect, useSyncExternalStore } from "react";
import { Refusal } from "../api/client";
import { pauseMost } from "../api/queries";

/** names are what the queries of a page are about, by the beginning of their key. */
export const names: Record<string, string> = {
  atlas: "the atlas",
  ready: "whether the database answers",
  card: "a card",
  visits: "the visits",
  visit: "a visit",
  places: "places",
  report: "counts",
  timeline: "the timeline",
  "visits-state": "the state of the queue",
  keys: "the keys",
  made: "what was made with a key",
  sessions: "the sessions",
  audit: "the audit log",
  checkup: "the proxy check",
  trail: "a trail",
  editions: "the editions",
  changes: "what the next edition would change",
  coverage: "coverage",
  "visit-coverage": "how well your visits are known",
  feeds: "the geofeeds",
  accuracy: "accuracy",
  corrections: "the corrections",
  countries: "visits by country",
  snippets: "the snippets",
  timed: "an answer",
  rates: "the exchange rates",
  variants: "the variants",
  "country-choices": "the list of countries",
  gate: "the gates",
  "gate-history": "earlier rules",
  "gate-check": "what is wrong with the rules",
  "gate-simulation": "the simulation",
  "refused-requests": "the requests that were refused",
  rehearsal: "the rehearsal",
  links: "the links",
  clicks: "who followed the link",
  companions: "the companions",
  notices: "the notices",
  messages: "what notices sent",
  message: "a message",
  "notice-preview": "what the notice would say",
  "companion-tries": "what the companion says for the places",
};

/** isMissing says whether a page lacks what a query asks for: a 404 is an answer, and the sites have a page of their own. */
const isMissing = (query: Query) =>
  query.isActive() &&
  query.state.error !== null &&
  query.queryKey[0] !== "sites" &&
  !(query.state.error instanceof Refusal && [401, 404, 422].includes(query.state.error.problem.status));

/**
 * Failures says what of the page could not be loaded, so that nothing that lacks looks as if there were nothing, and
 * asks for it again until it is there.
 */
export function Failures() {
  const queries = useQueryClient();
  const cache = queries.getQueryCache();
  const subscribe = useCallback(
    (changed: () => void) => cache.subscribe(notifyManager.batchCalls(changed)),
    [cache],
  );
  const missing = useSyncExternalStore(subscribe, () => {
    const said = cache.findAll({ predicate: isMissing }).map((q) => String(q.queryKey[0]));
    return [...new Set(said.map((key) => names[key] ?? "something"))].join(", ");
  });
  useEffect(() => {
    if (missing === "") return undefined;
    const again = () => void queries.refetchQueries({ predicate: isMissing }, { cancelRefetch: false });
    const timer = setInterval(again, pauseMost);
    return () => clearInterval(timer);
  }, [missing, queries]);
  if (missing === "") return null;
  return (
    <div className="banner" role="status">
      <span className="attention-dot" aria-hidden="true" />
      <span>Could not be loaded, and so not shown: {missing}. It is asked for again every few seconds.</span>
      <Button size="small" onClick={() => void queries.refetchQueries({ predicate: isMissing })}>
        Try again
      </Button>
    </div>
  );
}
