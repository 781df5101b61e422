import { holdPages } from "../testkit/holdPages";

holdPages({
  "/today": ["/v1/checkup", "/v1/atlas", "/v1/atlas/editions"],
  "/trail": ["/v1/checkup"],
  "/atlas": ["/v1/atlas", "/v1/atlas/editions"],
  "/gate": ["/v1/gate"],
  "/links?link=tickets": [],
});
