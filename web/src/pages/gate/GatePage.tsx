import "./gate.css";
import "./side.css";
import { Button, Segmented, Select } from "antd";
import { useMemo, useState } from "react";
import { api, unwrap, type Gate, type GateRules, type GateState } from "../../api/client";
import { useAction } from "../../api/changes";
import { useGate, useGateCheck } from "../../api/gate";
import { Icon } from "../../components/icons";
import { useSite } from "../../components/site";
import { Bars, Empty, Failed } from "../../components/states";
import { Alarms } from "./Alarms";
import { Exceptions } from "./Exceptions";
import { GateSettings } from "./GateSettings";
import { History } from "./History";
import { fresh, setGate } from "./rules";
import { Findings, RuleList } from "./RuleList";
import { Simulation } from "./Simulation";
import { TryPanel } from "./TryPanel";

/** GatePage shows who is admitted where, and changes it: a draft is tried before it goes live. */
export function GatePage() {
  const { site } = useSite();
  const gate = useGate(site?.host ?? "");
  if (gate.isPending) return <Bars label="The gates are loading" />;
  if (gate.isError)
    return (
      <div className="panel">
        <Failed
          what="The gates could not be loaded."
          error={gate.error}
          retry={() => void gate.refetch()}
          after="What is in force stays in force."
        />
      </div>
    );
  return <Loaded key={site?.host} state={gate.data} zone={site?.time_zone ?? "UTC"} />;
}

/** Work is what is being changed, of which revision. */
interface Work {
  rules: GateRules;
  revision: number;
}

function Loaded({ state, zone }: { state: GateState; zone: string }) {
  const [work, setWork] = useState<Work | null>(null);
  const [at, setAt] = useState(0);
  const saved = state.draft?.rules ?? state.live.rules;
  const rules = work?.rules ?? saved;
  const changed = work !== null || state.draft !== null;
  const checked = useGateCheck(state.site, work ? rules : null);
  const findings = work ? (checked.data?.findings ?? []) : state.findings;
  const index = Math.min(at, rules.gates.length - 1);
  const shown = rules.gates[index];
  const edit = (next: GateRules) => setWork({ rules: next, revision: work?.revision ?? state.live.revision });
  return (
    <div className="gatepage">
      <Alarms state={state} />
      <section className="panel gate-main" aria-label="Rules">
        {shown ? (
          <>
            <Head
              rules={rules}
              index={index}
              changed={changed}
              state={state}
              onChoose={setAt}
              onAdd={() => {
                edit({ ...rules, gates: [...rules.gates, fresh(rules.gates.map((g) => g.name))] });
                setAt(rules.gates.length);
              }}
              onChange={(g) => edit(setGate(rules, index, g))}
            />
            <Settings
              key={index}
              gate={shown}
              state={state}
              onChange={(g) => edit(setGate(rules, index, g))}
              onRemove={() => edit({ ...rules, gates: rules.gates.filter((_, i) => i !== index) })}
            />
            <RuleList
              key={`${index}${state.live.revision}`}
              gate={shown}
              index={index}
              live={state.live.rules.gates.find((g) => g.name === shown.name)}
              state={state}
              zone={zone}
              findings={findings}
              onChange={(g) => edit(setGate(rules, index, g))}
            />
          </>
        ) : (
          <Empty
            title="No gates"
            text="Everybody is admitted everywhere. A gate stands at a path and admits or refuses by country, area, label or network."
          >
            <Button type="primary" onClick={() => edit({ ...rules, gates: [fresh([])] })}>
              Add a gate
            </Button>
          </Empty>
        )}
        <Exceptions state={state} rules={rules} onChange={edit} />
        <Foot state={state} work={work} changed={changed} findings={findings} onDone={() => setWork(null)} />
        <History state={state} />
      </section>
      <div className="gate-side">
        <TryPanel state={state} rules={rules} changed={changed} gate={shown} />
        <Simulation state={state} rules={rules} changed={changed} />
      </div>
    </div>
  );
}

function Head(props: {
  rules: GateRules;
  index: number;
  changed: boolean;
  state: GateState;
  onChoose: (at: number) => void;
  onAdd: () => void;
  onChange: (gate: Gate) => void;
}) {
  const gate = props.rules.gates[props.index];
  if (!gate) return null;
  const many = props.rules.gates.length > 1;
  return (
    <div className="gate-head">
      <hgroup>
        <h2 className="serif">{gate.name}</h2>
        <span className="addr second">{gate.path}</span>
      </hgroup>
      {props.changed && <span className="chip kind">draft</span>}
      <span className="gate-choose">
        {many && (
          <Select
            aria-label="Which gate"
            value={props.index}
            popupMatchSelectWidth={false}
            labelRender={() => `${props.index + 1} of ${props.rules.gates.length}`}
            options={props.rules.gates.map((g, i) => ({ value: i, label: g.name }))}
            onChange={props.onChoose}
          />
        )}
        <Button
          icon={<Icon name="plus" />}
          aria-label="Add a gate"
          title="Add a gate"
          onClick={props.onAdd}
        />
      </span>
      <Segmented
        aria-label="Mode"
        value={gate.mode}
        options={[
          { value: "off", label: "Off" },
          { value: "watch", label: "Watch" },
          { value: "on", label: "On" },
        ]}
        onChange={(mode) => props.onChange({ ...gate, mode: mode as Gate["mode"] })}
      />
    </div>
  );
}

function Settings(props: {
  gate: Gate;
  state: GateState;
  onChange: (gate: Gate) => void;
  onRemove: () => void;
}) {
  const [open, setOpen] = useState(false);
  return (
    <section className={open ? "gate-settings open" : "gate-settings"}>
      <button type="button" className="gate-fold" aria-expanded={open} onClick={() => setOpen(!open)}>
        <Icon name={open ? "down" : "caret"} />
        <b>{props.gate.list === "allow" ? "Allow list" : "Deny list"}</b>
        <span className="small second">name, path, without a location, what the refused read</span>
        <span className="small second gate-hits">
          {props.state.hits_of === "visit" ? "visits of 24 h" : "last 24 h"}
        </span>
      </button>
      {open && <GateSettings {...props} />}
    </section>
  );
}

function Foot(props: {
  state: GateState;
  work: Work | null;
  changed: boolean;
  findings: GateState["findings"];
  onDone: () => void;
}) {
  const { state, work } = props;
  const site = state.site;
  const query = { query: { site } };
  const rules = work?.rules ?? state.draft?.rules ?? state.live.rules;
  const wrong = props.findings.some((f) => f.severity === "error");
  const nobody = useMemo(
    () => rules.gates.some((g) => g.list === "allow" && !g.rules.some((r) => (r.do ?? "admit") === "admit")),
    [rules],
  );
  const [sure, setSure] = useState(false);
  const keep = useAction({
    call: async () => {
      const answer = await api.PUT("/v1/gate/draft", { params: query, body: rules });
      if (answer.error) await unwrap(Promise.resolve(answer));
    },
    stale: ["gate"],
    done: () => {
      props.onDone();
      return "The draft is saved.";
    },
  });
  const live = useAction({
    call: () =>
      unwrap(
        api.PUT("/v1/gate", {
          params: query,
          body: {
            rules,
            revision: work?.revision ?? state.live.revision,
            ...(nobody && sure ? { refuse_everybody: true } : {}),
          },
        }),
      ),
    stale: ["gate", "gate-history", "gate-simulation"],
    done: (rev) => {
      props.onDone();
      return `Revision ${rev.revision} is in force.`;
    },
  });
  const drop = useAction({
    call: async () => {
      if (state.draft) await api.DELETE("/v1/gate/draft", { params: query });
    },
    stale: ["gate"],
    done: () => props.onDone(),
  });
  return (
    <div className="gate-foot">
      <Button type="primary" disabled={!work} loading={keep.busy} onClick={() => keep.change()}>
        Save the draft
      </Button>
      <Button
        disabled={!props.changed || wrong || (nobody && !sure)}
        loading={live.busy}
        onClick={() => live.change()}
      >
        Put it live
      </Button>
      <Button type="text" disabled={!props.changed} onClick={() => drop.change()}>
        Discard
      </Button>
      {nobody && (
        <label className="switch small">
          <input type="checkbox" checked={sure} onChange={(e) => setSure(e.target.checked)} />
          An allow list admits nobody, and is meant so
        </label>
      )}
      <Findings findings={props.findings} />
    </div>
  );
}
