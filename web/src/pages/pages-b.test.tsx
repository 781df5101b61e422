import { holdPages } from "../testkit/holdPages";

holdPages({
  "/visits": [],
  "/map": [],
  "/lookup?address=198.18.3.40": [],
  "/lookup/many": [],
  "/setup": ["/v1/checkup", "/readyz"],
});
