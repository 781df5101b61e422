import "./editor.css";
import "./steps.css";
import { App, Button, Input, Segmented } from "antd";
import { useDeferredValue, useState } from "react";
import { accomplish, api, unwrap } from "../../api/client";
import { useAction, useChange, wordsOf } from "../../api/changes";
import {
  tryCompanion,
  useTries,
  type Companion,
  type CompanionList,
  type CompanionSaid,
} from "../../api/companions";
import { Icon } from "../../components/icons";
import { Prose } from "../../components/parts";
import { useSite } from "../../components/site";
import { AllowanceStep } from "./AllowanceStep";
import { AnswerStep } from "./AnswerStep";
import { CategoryStep } from "./CategoryStep";
import { RequestStep } from "./RequestStep";
import { failing, fresh, visitors as usual } from "./words";

/** Editor changes a companion in the order in which people work: ask, look, pick, name. */
export function Editor(props: {
  list: CompanionList;
  companion: Companion | undefined;
  onDone: (name: string) => void;
}) {
  const { site } = useSite();
  const host = site?.host ?? "";
  const there = props.companion;
  const [said, setSaid] = useState<CompanionSaid>(there?.said ?? fresh);
  const [from, setFrom] = useState(there?.revision);
  const [own, setName] = useState("");
  const [visitors, setVisitors] = useState(usual);
  const [at, setAt] = useState(0);
  const name = there?.name ?? own;
  const set = (part: Partial<CompanionSaid>) => setSaid({ ...said, ...part });
  const tried = useTries(host, name || "new", useDeferredValue(said), visitors);
  const results = tried.data?.results ?? [];
  const asking = useChange({
    call: (who: string[]) => tryCompanion(host, { name: name || "new", said, visitors: who, ask: true }),
    stale: ["companion-tries", "companions"],
    quiet: true,
  });
  const save = useAction({
    call: () =>
      unwrap(
        api.PUT("/v1/companions/{name}", {
          params: { path: { name }, query: { site: host } },
          body: { said, revision: from ?? 0 },
        }),
      ),
    stale: ["companions", "companion-tries", "checkup"],
    quiet: true,
    done: (saved) => {
      setSaid(saved.said);
      setFrom(saved.revision);
      props.onDone(saved.name);
      return "Saved. Cards have it from now on.";
    },
  });
  const changed = JSON.stringify(said) !== JSON.stringify(there?.said ?? fresh) || own !== "";
  const wrong = tried.isError ? wordsOf(tried.error) : "";
  const outdated = there !== undefined && from !== there.revision && changed;
  return (
    <section className="panel companion-editor" aria-label={there ? `Companion ${name}` : "New companion"}>
      <div className="companion-head">
        <Input
          className="companion-title serif"
          variant="borderless"
          aria-label="Title"
          placeholder="Title"
          maxLength={60}
          value={said.title}
          onChange={(e) => set({ title: e.target.value })}
        />
        <Name there={there} own={own} onChange={setName} />
        <span className="companion-buttons">
          {there?.standing === "answers" && (
            <span className="small companion-ok">
              <Icon name="check" /> answers
            </span>
          )}
          <Segmented
            aria-label="Whether it is asked"
            value={said.enabled}
            onChange={(enabled: boolean) => set({ enabled })}
            options={[
              { value: false, label: "Off" },
              { value: true, label: "On" },
            ]}
          />
          <Button
            disabled={!changed}
            onClick={() => {
              setSaid(there?.said ?? fresh);
              setFrom(there?.revision);
              setName("");
            }}
          >
            Discard
          </Button>
          <Button
            type="primary"
            loading={save.busy}
            disabled={!changed || name === "" || said.title.trim() === ""}
            onClick={save.change}
          >
            Save
          </Button>
        </span>
      </div>
      {there?.standing === "fails" && <Strip companion={there} host={host} />}
      {outdated && (
        <div className="companion-wrong" role="status">
          It was changed meanwhile. Discard takes what is in use now.
        </div>
      )}
      {(save.failed || asking.failed || (changed && wrong)) && (
        <div className="companion-wrong" role="alert">
          <Prose text={save.failed || asking.failed || wrong} />
        </div>
      )}
      <div className="companion-columns">
        <div>
          <RequestStep
            said={said}
            secrets={props.list.secrets}
            visitors={visitors}
            results={results}
            at={at}
            busy={asking.busy}
            onChange={set}
            onVisitors={setVisitors}
            onAt={setAt}
            onTry={() => asking.change([visitors[at] ?? ""])}
          />
          <AnswerStep said={said} tried={results[at]} onChange={set} />
        </div>
        <div>
          <CategoryStep
            said={said}
            results={results}
            at={at}
            busy={asking.busy}
            onAt={setAt}
            onChange={set}
            onAskAll={() => asking.change(visitors)}
          />
          <AllowanceStep said={said} companion={there} onChange={set} />
          {there && <Drop companion={there} host={host} onDone={() => props.onDone("")} />}
        </div>
      </div>
    </section>
  );
}

function Name(props: { there: Companion | undefined; own: string; onChange: (name: string) => void }) {
  if (props.there) return <code className="companion-path second">companions.{props.there.name}</code>;
  return (
    <span className="companion-path companion-own">
      <code className="second">companions.</code>
      <Input
        size="small"
        className="mono"
        aria-label="Name on the card"
        placeholder="weather"
        maxLength={40}
        value={props.own}
        onChange={(e) => props.onChange(e.target.value.toLowerCase().replace(/[^a-z0-9_]/g, "_"))}
      />
    </span>
  );
}

/** Strip says that a companion fails, what is shown meanwhile, and when it is asked again. */
function Strip({ companion, host }: { companion: Companion; host: string }) {
  const { since, rest } = failing(companion);
  const ask = useAction({
    call: () =>
      unwrap(
        api.POST("/v1/companions/{name}/ask", {
          params: { path: { name: companion.name }, query: { site: host } },
        }),
      ),
    stale: ["companions", "companion-tries", "checkup"],
    done: (c) => (c.standing === "answers" ? "It answers again." : undefined),
  });
  return (
    <div className="companion-strip" role="status">
      <span className="attention-dot" aria-hidden="true" />
      <span>
        <b>
          <Prose text={since} />
        </b>{" "}
        {rest}
      </span>
      <button type="button" className="textlink" disabled={ask.busy} onClick={ask.change}>
        {ask.busy ? "Asking" : "Ask now"}
      </button>
    </div>
  );
}

function Drop({ companion, host, onDone }: { companion: Companion; host: string; onDone: () => void }) {
  const { modal } = App.useApp();
  const drop = useAction({
    call: () =>
      accomplish(
        api.DELETE("/v1/companions/{name}", {
          params: { path: { name: companion.name }, query: { site: host } },
        }),
      ),
    stale: ["companions", "checkup"],
    done: () => {
      onDone();
      return `${companion.name} is gone.`;
    },
  });
  return (
    <div className="companion-drop">
      <Button
        type="text"
        danger
        loading={drop.busy}
        onClick={() =>
          void modal.confirm({
            title: `Drop ${companion.said.title}?`,
            content: "It is asked no more, and pages have nothing of it from now on.",
            okText: "Drop",
            onOk: drop.change,
          })
        }
      >
        Drop this companion
      </Button>
    </div>
  );
}
