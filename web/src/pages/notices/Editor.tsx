import { App, Button, Input, Modal, Segmented, Select } from "antd";
import { useDeferredValue, useState } from "react";
import { accomplish, api, unwrap } from "../../api/client";
import { useAction, useChange, wordsOf } from "../../api/changes";
import { useCompanions } from "../../api/companions";
import { usePreview, type Notice, type NoticeList, type NoticeSaid } from "../../api/notices";
import { useVariants } from "../../api/queries";
import { Icon } from "../../components/icons";
import { Prose } from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { useSite } from "../../components/site";
import { Layout, Line } from "./Layout";
import { Preview } from "./Preview";
import { Sentence } from "./Sentence";
import { fresh } from "./words";

/** Editor changes a notice: when, to whom, and in which layout. */
export function Editor(props: {
  list: NoticeList;
  notice: Notice | undefined;
  onDone: (name: string) => void;
  onChannel: (name: string) => void;
}) {
  const { site } = useSite();
  const { presenting } = usePreferences();
  const host = site?.host ?? "";
  const there = props.notice;
  const { channels } = props.list;
  const first = channels.find((c) => c.said.kind === "mail") ?? channels[0];
  const begins = there?.said ?? fresh("country", first?.name ?? "", first?.said.kind !== "webhook");
  const [said, setSaid] = useState<NoticeSaid>(begins);
  const [from, setFrom] = useState(there?.revision);
  const [own, setName] = useState("");
  const [isHTML, setIsHTML] = useState(false);
  const [visits, setVisits] = useState<string[]>([]);
  const [testing, setTesting] = useState(false);
  const choices = useVariants(host).data;
  const companions = useCompanions(host).data?.companions ?? [];
  const categories = companions.flatMap((c) =>
    [...new Set([...c.said.categories.map((one) => one.name), c.said.default])]
      .filter((word) => word !== "")
      .map((word) => `${c.name}.${word}`),
  );
  const name = there?.name ?? own;
  const set = (part: Partial<NoticeSaid>) => setSaid({ ...said, ...part });
  const isMail = channels.find((c) => c.name === said.channel)?.said.kind !== "webhook";
  const preview = usePreview(host, useDeferredValue(said), visits);
  const previews = preview.data?.previews ?? [];
  const save = useAction({
    call: () =>
      unwrap(
        api.PUT("/v1/notices/{name}", {
          params: { path: { name }, query: { site: host } },
          body: { said, revision: from ?? 0 },
        }),
      ),
    stale: ["notices", "notice-preview", "checkup"],
    quiet: true,
    done: (saved) => {
      setSaid(saved.said);
      setFrom(saved.revision);
      props.onDone(saved.name);
      return saved.said.enabled ? "Saved, and in force." : "Saved.";
    },
  });
  const changed = JSON.stringify(said) !== JSON.stringify(there?.said ?? begins) || own !== "";
  const wrong = preview.isError ? wordsOf(preview.error) : "";
  const outdated = there !== undefined && from !== there.revision && changed;
  const list = props.list.facts.filter((f) => f.kinds.includes(said.trigger.kind));
  const choose = (at: number, id: string) => {
    const shown = previews.map((p) => p.visit ?? id);
    shown[at] = id;
    setVisits(shown.slice(0, 2));
  };
  return (
    <section className="panel notice-editor" aria-label={there ? `Notice ${name}` : "New notice"}>
      <div className="notice-head">
        <Input
          className="notice-title serif"
          variant="borderless"
          aria-label="Title"
          placeholder="Title"
          maxLength={60}
          value={said.title}
          onChange={(e) => set({ title: e.target.value })}
        />
        {!there && (
          <Input
            size="small"
            className="mono notice-own"
            aria-label="Name"
            placeholder="first-visit"
            maxLength={40}
            value={own}
            onChange={(e) => setName(e.target.value.toLowerCase().replace(/[^a-z0-9-]/g, "-"))}
          />
        )}
        {there && changed && <span className="chip outcome off">draft, not saved</span>}
        <Segmented
          aria-label="Whether it is written"
          value={said.enabled}
          onChange={(enabled: boolean) => set({ enabled })}
          options={[
            { value: false, label: "Off" },
            { value: true, label: "On" },
          ]}
        />
      </div>
      <Sentence
        said={said}
        channels={channels}
        labels={choices?.labels ?? []}
        categories={categories}
        onChange={setSaid}
        onNewChannel={() => props.onChannel("+")}
      />
      <div className="notice-address">
        {isMail && (
          <>
            <label htmlFor="notice-to">To</label>
            {presenting ? (
              <Input id="notice-to" disabled value={`${said.to.length} hidden`} />
            ) : (
              <Select
                id="notice-to"
                mode="tags"
                aria-label="To"
                {...(said.trigger.kind === "asked" ? {} : { open: false })}
                suffixIcon={null}
                placeholder={said.trigger.kind === "asked" ? "{{.asker}} or a mail address" : "mail address"}
                tokenSeparators={[",", ";", " "]}
                options={
                  said.trigger.kind === "asked" ? [{ value: "{{.asker}}", label: "whoever asked" }] : []
                }
                value={said.to}
                onChange={(to: string[]) => set({ to })}
              />
            )}
          </>
        )}
        <label htmlFor="notice-subject">Subject</label>
        <Line id="notice-subject" max={200} value={said.subject} onChange={(subject) => set({ subject })} />
      </div>
      <div className="notice-columns">
        <Layout
          text={said.text}
          html={said.html}
          list={list}
          isHTML={isHTML}
          onKind={setIsHTML}
          onText={(text) => set({ text })}
          onHTML={(html) => set({ html })}
        />
        <Preview
          title={
            said.trigger.kind === "refusals" ||
            said.trigger.kind === "checkup" ||
            said.trigger.kind === "edition"
              ? "An example"
              : "A real visit"
          }
          written={previews[0]}
          visits={preview.data?.visits ?? []}
          isHTML={isHTML}
          onVisit={(id) => choose(0, id)}
        />
        <Preview
          title="Facts missing"
          written={previews[1]}
          visits={preview.data?.visits ?? []}
          isHTML={isHTML}
          onVisit={(id) => choose(1, id)}
        />
      </div>
      <div className="notice-foot">
        <Button
          type="primary"
          loading={save.busy}
          disabled={presenting || !changed || name === "" || said.title.trim() === ""}
          onClick={save.change}
        >
          Save
        </Button>
        <Button
          disabled={presenting || wrong !== "" || channels.length === 0}
          onClick={() => setTesting(true)}
        >
          Send me a test
        </Button>
        <Button
          type="text"
          disabled={!changed}
          onClick={() => {
            setSaid(there?.said ?? begins);
            setFrom(there?.revision);
            setName("");
          }}
        >
          Discard
        </Button>
        {there && <Drop notice={there} host={host} onDone={() => props.onDone("")} />}
        <Found
          wrong={save.failed || wrong}
          outdated={outdated}
          isReady={preview.isSuccess}
          presenting={presenting}
          kind={said.trigger.kind}
        />
      </div>
      {testing && (
        <TestDialog
          host={host}
          said={said}
          name={name}
          isMail={isMail}
          visit={previews[0]?.visit ?? null}
          onClose={() => setTesting(false)}
        />
      )}
    </section>
  );
}

/** Found says what the check of a draft found. */
function Found(props: {
  wrong: string;
  outdated: boolean;
  isReady: boolean;
  presenting: boolean;
  kind: string;
}) {
  if (props.presenting)
    return (
      <span className="notice-found small second">
        While presenting, nothing is changed: recipients are hidden.
      </span>
    );
  if (props.outdated)
    return (
      <span className="notice-found bad small" role="status">
        It was changed meanwhile. Discard takes what is in force now.
      </span>
    );
  if (props.wrong)
    return (
      <span className="notice-found bad small" role="alert">
        <Prose text={props.wrong} />
      </span>
    );
  if (!props.isReady) return null;
  return (
    <span className="notice-found small second">
      <Icon name="check" />{" "}
      {props.kind === "country" || props.kind === "label"
        ? "Every fact is known; bots and monitors never set it off."
        : "Every fact is known."}
    </span>
  );
}

/** TestDialog sends what is edited to one recipient, or to the webhook. */
function TestDialog(props: {
  host: string;
  said: NoticeSaid;
  name: string;
  isMail: boolean;
  visit: string | null;
  onClose: () => void;
}) {
  const own = props.said.to.find((t) => !t.includes("{{")) ?? "";
  const [to, setTo] = useState(own);
  const send = useChange({
    call: (recipient: string) =>
      unwrap(
        api.POST("/v1/notices/test", {
          params: { query: { site: props.host } },
          body: {
            said: props.said,
            visit: props.visit,
            ...(props.name ? { name: props.name } : {}),
            ...(props.isMail ? { to: recipient } : {}),
          },
        }),
      ),
    stale: ["messages", "notices"],
    quiet: true,
    done: () => {
      props.onClose();
      return "The test waits to be sent; Sent says what becomes of it.";
    },
  });
  return (
    <Modal
      open
      title="Send me a test"
      okText="Send"
      okButtonProps={{ disabled: props.isMail && to.trim() === "", loading: send.busy }}
      onOk={() => send.change(to.trim())}
      onCancel={props.onClose}
    >
      {props.isMail ? (
        <label className="dialog-field">
          Mail address
          <Input
            type="email"
            value={to}
            onChange={(e) => setTo(e.target.value)}
            onPressEnter={() => send.change(to.trim())}
          />
        </label>
      ) : (
        <p>It goes to the webhook, marked as a test.</p>
      )}
      {send.failed && (
        <p className="bad small" role="alert">
          <Prose text={send.failed} />
        </p>
      )}
    </Modal>
  );
}

function Drop({ notice, host, onDone }: { notice: Notice; host: string; onDone: () => void }) {
  const { modal } = App.useApp();
  const drop = useAction({
    call: () =>
      accomplish(
        api.DELETE("/v1/notices/{name}", {
          params: { path: { name: notice.name }, query: { site: host } },
        }),
      ),
    stale: ["notices", "checkup"],
    done: () => {
      onDone();
      return `${notice.said.title} is gone.`;
    },
  });
  return (
    <Button
      type="text"
      danger
      loading={drop.busy}
      onClick={() =>
        void modal.confirm({
          title: `Drop ${notice.said.title}?`,
          content: "Nothing is written any more. What it wrote stays listed for 7 days.",
          okText: "Drop",
          onOk: drop.change,
        })
      }
    >
      Drop
    </Button>
  );
}
