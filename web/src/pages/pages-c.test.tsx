import { holdPages } from "../testkit/holdPages";

holdPages({
  "/rehearse?from=PT&from=unknown&path=/early/eights": [],
  "/companions?companion=weather": ["/v1/companions"],
  "/notices?notice=first-visit": ["/v1/notices"],
});
