import { holdPages } from "../testkit/holdPages";

holdPages(["/today", "/trail", "/atlas", "/gate", "/links?link=tickets"]);
