import { holdPages } from "../testkit/holdPages";

holdPages([
  "/rehearse?from=PT&from=unknown&path=/early/eights",
  "/companions?companion=weather",
  "/notices?notice=first-visit",
]);
