import { Checkbox, Input, InputNumber, Radio, Select } from "antd";
import type { Channel, NoticeSaid } from "../../api/notices";
import { Choice } from "./Choice";
import { digestWords, kinds, limitWords, quietWords, reshaped, when } from "./words";

/** Sentence says when a notice is written, over which channel and how often; its words are choices. */
export function Sentence(props: {
  said: NoticeSaid;
  channels: Channel[];
  labels: string[];
  categories: string[];
  onChange: (said: NoticeSaid) => void;
  onNewChannel: () => void;
}) {
  const { said, channels } = props;
  const set = (part: Partial<NoticeSaid>) => props.onChange({ ...said, ...part });
  const { begin, what } = when(said);
  const isMail = channels.find((c) => c.name === said.channel)?.said.kind !== "webhook";
  return (
    <p className="notice-sentence serif">
      {begin}{" "}
      <Choice words={what} label="When">
        {() => <Trigger {...props} isMail={isMail} />}
      </Choice>
      , send{" "}
      <Choice words={channelWords(channels, said.channel)} label="Over">
        {(close) => (
          <Radio.Group
            className="choice-list"
            value={said.channel}
            onChange={(e) => {
              const to =
                channels.find((c) => c.name === e.target.value)?.said.kind === "webhook" ? [] : said.to;
              set({ channel: e.target.value as string, to });
              close();
            }}
          >
            {channels.map((c) => (
              <Radio key={c.name} value={c.name}>
                {c.name} <span className="small second">{c.said.kind}</span>
              </Radio>
            ))}
            <button type="button" className="textlink" onClick={props.onNewChannel}>
              Add a channel
            </button>
          </Radio.Group>
        )}
      </Choice>
      , at most{" "}
      <Choice words={limitWords(said)} label="At most">
        {() => <Limit said={said} onChange={set} />}
      </Choice>
      .{" "}
      {said.trigger.kind !== "asked" && (
        <>
          Quiet{" "}
          <Choice words={quietWords(said)} label="Quiet">
            {() => <Quiet said={said} onChange={set} />}
          </Choice>
          {said.quiet && (
            <>
              , then{" "}
              <Choice words={digestWords(said)} label="Then">
                {(close) => (
                  <Radio.Group
                    className="choice-list"
                    value={said.quiet?.then}
                    onChange={(e) => {
                      if (said.quiet)
                        set({ quiet: { ...said.quiet, then: e.target.value as "digest" | "each" } });
                      close();
                    }}
                  >
                    <Radio value="digest">one digest of all</Radio>
                    <Radio value="each">each by itself</Radio>
                  </Radio.Group>
                )}
              </Choice>
            </>
          )}
          .
        </>
      )}
    </p>
  );
}

function channelWords(channels: Channel[], name: string): string {
  const c = channels.find((one) => one.name === name);
  if (!c) return name === "" ? "over a channel" : `over ${name}, which is gone`;
  const alone = channels.filter((one) => one.said.kind === c.said.kind).length === 1;
  if (alone) return c.said.kind === "mail" ? "a mail" : "a webhook message";
  return `over ${c.name}`;
}

function Trigger(props: {
  said: NoticeSaid;
  labels: string[];
  categories: string[];
  isMail: boolean;
  onChange: (said: NoticeSaid) => void;
}) {
  const { said } = props;
  const t = said.trigger;
  const set = (part: Partial<NoticeSaid["trigger"]>) =>
    props.onChange({ ...said, trigger: { ...t, ...part } });
  return (
    <>
      <Select
        aria-label="Kind"
        value={t.kind}
        options={kinds}
        onChange={(kind) => props.onChange(reshaped(said, kind, props.isMail))}
      />
      {t.kind === "country" && (
        <label>
          not seen for
          <InputNumber
            aria-label="Days"
            min={1}
            max={365}
            value={t.days ?? 90}
            onChange={(n) => set({ days: n ?? 90 })}
          />
          days
        </label>
      )}
      {t.kind === "label" && (
        <Select
          aria-label="Labels"
          mode="multiple"
          placeholder="Labels"
          value={t.labels ?? []}
          options={props.labels.map((value) => ({ value }))}
          onChange={(labels) => set({ labels })}
        />
      )}
      {t.kind === "refusals" && (
        <>
          <label>
            <InputNumber
              aria-label="Times"
              min={1.5}
              max={100}
              step={0.5}
              value={t.times ?? 3}
              onChange={(n) => set({ times: n ?? 3 })}
            />
            times as many as before
          </label>
          <label>
            and at least
            <InputNumber
              aria-label="At least"
              min={1}
              max={1_000_000}
              value={t.least ?? 30}
              onChange={(n) => set({ least: n ?? 30 })}
            />
            an hour
          </label>
        </>
      )}
      {(t.kind === "country" || t.kind === "label") && props.categories.length > 0 && (
        <Select
          aria-label="Only while it is"
          value={t.category ?? ""}
          options={[
            { value: "", label: "whatever companions say" },
            ...props.categories.map((value) => ({ value, label: `only while it is ${value} there` })),
          ]}
          onChange={(category) => {
            const rest = { ...t };
            delete rest.category;
            props.onChange({ ...said, trigger: category ? { ...rest, category } : rest });
          }}
        />
      )}
    </>
  );
}

function Limit({ said, onChange }: { said: NoticeSaid; onChange: (part: Partial<NoticeSaid>) => void }) {
  const set = (part: Partial<NoticeSaid["limit"]>) => onChange({ limit: { ...said.limit, ...part } });
  return (
    <>
      <label>
        <InputNumber
          aria-label="How many"
          min={1}
          max={100}
          value={said.limit.most}
          onChange={(n) => set({ most: n ?? 1 })}
        />
        <Select
          aria-label="In which time"
          value={said.limit.every}
          options={[
            { value: "hour", label: "in an hour" },
            { value: "day", label: "in 24 hours" },
          ]}
          onChange={(every) => set({ every })}
        />
      </label>
      {["country", "label", "checkup", "edition"].includes(said.trigger.kind) && (
        <Checkbox checked={said.limit.each} onChange={(e) => set({ each: e.target.checked })}>
          {{ country: "of each country", label: "of each label" }[said.trigger.kind as "country"] ??
            "of each of them"}
        </Checkbox>
      )}
      <span className="small second">What is beyond is counted, and not sent.</span>
    </>
  );
}

function Quiet({ said, onChange }: { said: NoticeSaid; onChange: (part: Partial<NoticeSaid>) => void }) {
  const q = said.quiet;
  return (
    <>
      <Checkbox
        checked={q !== null}
        onChange={(e) =>
          onChange({ quiet: e.target.checked ? { from: "22:00", to: "07:00", then: "digest" } : null })
        }
      >
        Send nothing for a part of the day
      </Checkbox>
      {q && (
        <label>
          from
          <Input
            aria-label="From"
            type="time"
            value={q.from}
            onChange={(e) => onChange({ quiet: { ...q, from: e.target.value } })}
          />
          to
          <Input
            aria-label="To"
            type="time"
            value={q.to}
            onChange={(e) => onChange({ quiet: { ...q, to: e.target.value } })}
          />
        </label>
      )}
      <span className="small second">
        By the clock of the site. The same time twice is all day: one digest a day.
      </span>
    </>
  );
}
