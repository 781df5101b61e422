import dayjs from "dayjs";
import type { Channel, Message, NoticeKind, NoticeSaid } from "../../api/notices";

/** kinds are what may have a notice written, in words. */
export const kinds: { value: NoticeKind; label: string }[] = [
  { value: "asked", label: "somebody asks" },
  { value: "country", label: "a visit from a new country" },
  { value: "label", label: "a visit with a label" },
  { value: "refusals", label: "refusals that jump" },
  { value: "checkup", label: "a checkup that warns" },
  { value: "edition", label: "an edition that waits" },
];

const layouts: Record<NoticeKind, { title: string; subject: string; text: string }> = {
  asked: {
    title: "Ask where an address is",
    subject: "Where {{.question}} is",
    text: "Country: {{.country}}\nTown: {{.city}}, within {{.radius}}\nClock there: {{.local_time}}\nNetwork: {{.network}}",
  },
  country: {
    title: "First visit from a new country",
    subject: 'First visit from {{or .country "a new country"}}',
    text: "A first visit came from {{.country}}.\nTown: {{.city}}, within {{.radius}}\nClock there: {{.local_time}}\nNetwork: {{.network}}\nPage: {{.path}} at {{.time}}\n{{.visit_url}}",
  },
  label: {
    title: "A label arrived",
    subject: "A visit with the label {{.label}}",
    text: "Label: {{.label}}\nTown: {{.city}}\nPage: {{.path}} at {{.time}}\n{{.visit_url}}",
  },
  refusals: {
    title: "Refusals jumped",
    subject: "Refusals jumped to {{.refusals}} an hour",
    text: "The gate refused {{.refusals}} requests in the last hour, and {{.refusals_before}} in the hour before.",
  },
  checkup: {
    title: "Checkup warns",
    subject: "Checkup: {{.finding}}",
    text: "{{.finding}}\n{{.finding_text}}",
  },
  edition: {
    title: "An edition waits",
    subject: "The edition {{.edition}} waits",
    text: "Waiting: {{.edition}}\nIn use: {{.edition_in_use}}",
  },
};

/** fresh is what a notice of a kind begins with. */
export function fresh(kind: NoticeKind, channel: string, isMail: boolean): NoticeSaid {
  return {
    ...layouts[kind],
    enabled: true,
    trigger: trigger(kind),
    channel,
    to: isMail && kind === "asked" ? ["{{.asker}}"] : [],
    html: "",
    limit:
      kind === "asked"
        ? { most: 100, every: "hour", each: false }
        : { most: 1, every: "day", each: kind !== "refusals" },
    quiet: null,
  };
}

/** trigger is what a kind begins with. */
export function trigger(kind: NoticeKind): NoticeSaid["trigger"] {
  switch (kind) {
    case "country":
      return { kind, days: 90 };
    case "label":
      return { kind, labels: [] };
    case "refusals":
      return { kind, times: 3, least: 30 };
    default:
      return { kind };
  }
}

/** reshaped is a notice for another kind: its layout is another too, unless it was changed by hand. */
export function reshaped(said: NoticeSaid, kind: NoticeKind, isMail: boolean): NoticeSaid {
  const old = layouts[said.trigger.kind];
  const untouched = said.subject === old.subject && said.text === old.text;
  const next = fresh(kind, said.channel, isMail);
  return {
    ...said,
    trigger: next.trigger,
    limit: next.limit,
    quiet: kind === "asked" ? null : said.quiet,
    to:
      kind === "asked" && said.to.length === 0
        ? next.to
        : said.to.filter((t) => kind === "asked" || t !== "{{.asker}}"),
    ...(untouched ? { subject: next.subject, text: next.text } : {}),
    ...(said.title === old.title ? { title: next.title } : {}),
  };
}

const number = (n: number) => n.toLocaleString("en");

/** begin and what are the trigger as part of a sentence. */
export function when(said: NoticeSaid): { begin: string; what: string } {
  const t = said.trigger;
  const only = t.category ? `, while it is ${t.category} there` : "";
  switch (t.kind) {
    case "asked":
      return { begin: "When", what: "somebody asks" };
    case "country":
      return {
        begin: "When a visit comes from",
        what: `a country not seen for ${t.days === 1 ? "a day" : `${t.days} days`}${only}`,
      };
    case "label":
      return {
        begin: "When a visit comes with",
        what: `${t.labels?.length ? `the label ${t.labels.join(" or ")}` : "a label"}${only}`,
      };
    case "refusals":
      return { begin: "When the gate refuses", what: `${t.times} times as many as in the hour before` };
    case "checkup":
      return { begin: "When", what: "a check turns to a warning" };
    case "edition":
      return { begin: "When", what: "an edition waits" };
  }
}

const apart: Partial<Record<NoticeKind, string>> = {
  country: "a country",
  label: "a label",
  checkup: "a check",
  edition: "an edition",
};

/** limitWords say how often at most. */
export function limitWords(said: NoticeSaid): string {
  const { most, every, each } = said.limit;
  const of = each ? ` ${apart[said.trigger.kind] ?? ""}` : "";
  return `${most === 1 ? "one" : number(most)}${of.trimEnd()} ${every === "hour" ? "an hour" : "a day"}`;
}

/** quietWords say when nothing is sent. */
export const quietWords = (said: NoticeSaid) =>
  said.quiet === null
    ? "never"
    : said.quiet.from === said.quiet.to
      ? "all day"
      : `${said.quiet.from} to ${said.quiet.to}`;

/** digestWords say what comes at the end of a quiet time. */
export const digestWords = (said: NoticeSaid) =>
  said.quiet?.then === "each" ? "each by itself" : "one digest";

/** moment says when something was, shortly. */
export function moment(time: string): string {
  const t = dayjs(time);
  return t.isSame(dayjs(), "day") ? t.format("HH:mm") : t.format("ddd HH:mm");
}

/** where says where a channel leads. */
export function where(c: Channel): string {
  if (c.said.kind === "webhook") return `${hostOf(c.said.url ?? "")}, signed`;
  const safe = { starttls: "STARTTLS", tls: "TLS", none: "without TLS" }[c.said.security ?? "none"];
  return `${(c.said.server ?? "").replace(/:\d+$/, "")}, ${safe}`;
}

function hostOf(url: string): string {
  try {
    return new URL(url).hostname;
  } catch {
    return url;
  }
}

/** outcome says what became of a message, shortly: a word that stands out, and whether all is well. */
export function outcome(m: Message): { tone: "ok" | "wait" | "bad" | "off"; text: string } {
  switch (m.state) {
    case "delivered":
      return { tone: "ok", text: "delivered" };
    case "dropped":
      return { tone: "off", text: m.result === "dropped by hand" ? "dropped" : `dropped: ${m.result}` };
    case "failed":
      return { tone: "bad", text: plain(m.result) };
    case "waiting": {
      if (m.attempts === 0 && m.result === "") return { tone: "wait", text: "waiting" };
      const again = m.next_try ? `, again ${moment(m.next_try)}` : "";
      return { tone: "wait", text: `${/grey/i.test(m.result) ? "greylisted" : plain(m.result)}${again}` };
    }
  }
}

/** plain takes off who said it, which the column says already. */
const plain = (result: string) =>
  result
    .replace(/^the (webhook|mail server) (answered|said) /, "")
    .replace(/the mail server said /, "")
    .replace(/^the (webhook|mail server) was not reached: .*$/, "not reached");

/** freshChannel is what a channel of a kind begins with. */
export function freshChannel(kind: "mail" | "webhook"): Channel["said"] {
  return kind === "webhook"
    ? { kind, url: "https://" }
    : { kind, server: "", security: "starttls", login: "", from: "", a_day: 200, recipient_an_hour: 5 };
}
