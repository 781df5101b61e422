import { useEffect, useMemo, useSyncExternalStore } from "react";
import { api, unwrap, type Card } from "../../api/client";
import { cells, type Plan } from "./lines";

/** A Row is the answer about one line. */
export interface Row {
  line: number;
  input: string;
  spelling: string | null;
  problem: string | null;
  address: string | null;
  kind: Card["address"]["kind"];
  aside: boolean;
  level: Card["location"]["level"];
  city: string | null;
  region: string | null;
  country: string | null;
  code: string | null;
  latitude: number | null;
  longitude: number | null;
  radius: number | null;
  zone: string | null;
}

/** batch is how many addresses are asked for at once. */
const batch = 500;

const fields = "input,spelling,problem,card.address,card.location";

async function ask(list: { line: number; input: string }[]): Promise<Row[]> {
  const answer = await unwrap(
    api.POST("/v1/addresses", {
      params: { query: { fields } },
      body: { addresses: list.map((l) => l.input) },
    }),
  );
  return answer.addresses.map((a, i) => {
    const w = a.card?.location;
    return {
      line: list[i]?.line ?? 0,
      input: a.input,
      spelling: a.spelling,
      problem: a.problem,
      address: a.card?.address.text ?? null,
      kind: a.card?.address.kind ?? null,
      aside: a.card?.address.skipped ?? false,
      level: w?.level ?? "none",
      city: w?.names.city ?? w?.city ?? null,
      region: w?.names.region ?? null,
      country: w?.names.country ?? null,
      code: w?.country_code ?? null,
      latitude: w?.latitude ?? null,
      longitude: w?.longitude ?? null,
      radius: w?.radius_km ?? null,
      zone: w?.time_zone ?? null,
    };
  });
}

export type Going = "running" | "paused" | "done" | "failed";

interface Progress {
  rows: Row[];
  done: number;
  all: number;
  going: Going;
  error: unknown;
  perSecond: number;
}

/** Work asks for the addresses of a text, a batch after another, and tells who listens how far it is. */
class Work {
  private readonly list: { line: number; input: string }[] = [];
  private rows: Row[] = [];
  private ms = 0;
  /** turn tells a loop that another has begun, or that it was stopped. */
  private turn = 0;
  private readonly listeners = new Set<() => void>();
  progress: Progress;

  constructor(lines: string[], plan: Plan) {
    const skip = plan.head.length > 0 ? 1 : 0;
    lines.forEach((text, i) => {
      if (i >= skip && text.trim() !== "")
        this.list.push({ line: i + 1, input: cells(text, plan.separator)[plan.column] ?? "" });
    });
    this.progress = { rows: [], done: 0, all: this.list.length, going: "paused", error: null, perSecond: 0 };
  }

  readonly subscribe = (listener: () => void) => {
    this.listeners.add(listener);
    return () => void this.listeners.delete(listener);
  };

  readonly run = async () => {
    const turn = ++this.turn;
    this.tell({ going: "running", error: null });
    try {
      while (this.rows.length < this.list.length) {
        const begun = performance.now();
        const answers = await ask(this.list.slice(this.rows.length, this.rows.length + batch));
        if (turn !== this.turn) return; // what was asked for is asked for again
        this.rows = this.rows.concat(answers);
        this.ms += performance.now() - begun;
        const done = this.rows.length;
        this.tell({ rows: this.rows, done, perSecond: (1000 * done) / this.ms });
      }
      this.tell({ going: "done" });
    } catch (error) {
      if (turn === this.turn) this.tell({ going: "failed", error });
    }
  };

  readonly pause = () => this.halt("paused");
  readonly stop = () => this.halt("done");

  private halt(going: Going) {
    this.turn++;
    if (this.progress.going !== "done") this.tell({ going });
  }

  private tell(change: Partial<Progress>) {
    this.progress = { ...this.progress, ...change };
    this.listeners.forEach((listener) => listener());
  }
}

/** useMany asks for the addresses of a text, and stops where the page goes away. */
export function useMany(lines: string[], plan: Plan) {
  const work = useMemo(() => new Work(lines, plan), [lines, plan]);
  const progress = useSyncExternalStore(work.subscribe, () => work.progress);
  useEffect(() => {
    void work.run();
    return work.pause;
  }, [work]);
  return { ...progress, pause: work.pause, resume: () => void work.run(), stop: work.stop };
}
