import { existsSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import process from "node:process";
import { realFetch } from "./network";

/** Asked is a call of the page. */
export interface Asked {
  method: string;
  path: string;
  query: URLSearchParams;
  body?: unknown;
}

const file = join(import.meta.dirname, "answers.json");
const recorded: Record<string, { status: number; body: unknown }> = existsSync(file)
  ? (JSON.parse(readFileSync(file, "utf8")) as typeof recorded)
  : {};

/** Where RECORD is the address of a running demo and KEY an owner's key, what is missing is asked there and kept. */
const { RECORD: from, KEY: key } = process.env;

/** answerOf gives the recorded answer of a call. Of the time that is asked for only its presence counts. */
export async function answerOf(asked: Asked) {
  const name = nameOf(asked);
  if (!(name in recorded) && from !== undefined && key !== undefined) {
    const query = asked.query.toString();
    const answer = await realFetch(`${from}${asked.path}${query === "" ? "" : `?${query}`}`, {
      method: asked.method,
      headers: { Authorization: `Bearer ${key}`, "Content-Type": "application/json" },
      ...(asked.body === undefined ? {} : { body: JSON.stringify(asked.body) }),
    });
    recorded[name] = { status: answer.status, body: short(await answer.json()) };
    const lines = Object.entries(recorded).map(([k, v]) => `${JSON.stringify(k)}:${JSON.stringify(v)}`);
    writeFileSync(file, `{\n${lines.sort().join(",\n")}\n}\n`);
  }
  return recorded[name];
}

const outlines = new Map<string, string>();

/** outlinesOf is the text of the world's outlines where a path leads to them: the coarse ones, unless fine ones are wanted. */
export function outlinesOf(path: string, fine: boolean): string | undefined {
  if (!path.includes("world-atlas")) return undefined;
  const name = fine ? (path.split("/").at(-1) ?? "") : "countries-110m.json";
  const text =
    outlines.get(name) ??
    readFileSync(join(import.meta.dirname, "../../node_modules/world-atlas", name), "utf8");
  outlines.set(name, text);
  return text;
}

/** recordedBody is a recorded answer, to make others of. */
export const recordedBody = (name: string): unknown => structuredClone(recorded[name]?.body);

function nameOf({ method, path, query, body }: Asked): string {
  const pairs = [...query].map(([k, v]) => `${k}=${/^(from|to)$/.test(k) ? "…" : v}`).sort();
  const name = `${method} ${path}${pairs.length === 0 ? "" : `?${pairs.join("&")}`}`;
  return body === undefined ? name : `${name} ${JSON.stringify(body)}`;
}

/** short keeps the first dozen of long lists. */
function short(value: unknown): unknown {
  if (Array.isArray(value)) {
    const most = typeof value[0] === "object" && value[0] !== null ? 12 : 200;
    return value.slice(0, most).map(short);
  }
  if (typeof value === "object" && value !== null)
    return Object.fromEntries(Object.entries(value).map(([k, v]) => [k, short(v)]));
  return value;
}
