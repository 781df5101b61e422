import { Button, Input, Segmented } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Gate, GateRules, GateState, Rehearsed } from "../../api/client";
import { useRehearsal } from "../../api/gate";
import { placeName } from "../../components/format";
import { AttentionChip, Country, Prose } from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { Bars, Failed } from "../../components/states";
import { DecisionChip } from "../../features/gate/outcome";

type Which = "Draft" | "Live";

/** TryPanel asks the gates about a visitor from anywhere, rule by rule until one decides. */
export function TryPanel(props: {
  state: GateState;
  rules: GateRules;
  changed: boolean;
  gate: Gate | undefined;
}) {
  const { state, rules, changed } = props;
  const { presenting } = usePreferences();
  const [which, setWhich] = useState<Which>("Draft");
  const usual = props.gate?.path.replace("**", "eights").replace("*", "x") ?? "/";
  const [draft, setDraft] = useState<{ from: string; path: string | null }>({ from: "JP", path: null });
  const [asked, setAsked] = useState({ from: "JP", path: usual });
  const path = draft.path ?? usual;
  const request = (by: Which) => ({
    site: state.site,
    visitors: [{ from: asked.from }],
    paths: [asked.path],
    ...(by === "Draft" && changed ? { rules } : {}),
  });
  const shown = useRehearsal(request(which));
  const other = useRehearsal(changed ? request(which === "Draft" ? "Live" : "Draft") : null);
  const one = shown.data?.results[0];
  const outcome = (r: Rehearsed | undefined) => r?.card?.gate?.outcome;
  const differs =
    changed &&
    outcome(one) &&
    outcome(other.data?.results[0]) &&
    outcome(one) !== outcome(other.data?.results[0]);
  return (
    <section className="panel gate-try" aria-label="Try a visitor">
      <div className="gate-side-head">
        <h2 className="panel-title">Try a visitor</h2>
        {changed && (
          <Segmented<Which>
            aria-label="By which rules"
            options={["Draft", "Live"]}
            value={which}
            onChange={setWhich}
          />
        )}
      </div>
      <form
        className="gate-try-form"
        onSubmit={(e) => {
          e.preventDefault();
          setAsked({ from: draft.from.trim() || "unknown", path: path.trim() || "/" });
        }}
      >
        <Input
          aria-label="Address, country, town or label"
          className="mono"
          type={presenting ? "password" : "text"}
          autoComplete="off"
          value={draft.from}
          placeholder="address, country, town"
          onChange={(e) => setDraft({ ...draft, from: e.target.value })}
        />
        <Input
          aria-label="Path"
          className="mono"
          value={path}
          onChange={(e) => setDraft({ ...draft, path: e.target.value })}
        />
        <Button htmlType="submit">Try</Button>
      </form>
      {shown.isPending ? (
        <Bars rows={3} label="The rules are asked" />
      ) : shown.isError ? (
        <Failed what="The rules could not be asked." error={shown.error} />
      ) : one?.card?.gate ? (
        <div className={shown.isPlaceholderData ? "dimmed" : ""} aria-live="polite">
          <div className="gate-verdict">
            <DecisionChip decision={one.card.gate} />
            <span>
              <span className="serif">
                {one.card.location.country_code ? placeName(one.card.location) : "No location"}
              </span>
              {one.card.location.country_code && (
                <span className="small second">
                  <Country code={one.card.location.country_code} name={one.card.location.names.country} />
                  {one.card.location.radius_km !== null &&
                    `, within ${Math.round(one.card.location.radius_km)} km`}
                </span>
              )}
            </span>
            {differs && (
              <AttentionChip>
                {which === "Draft" ? "live" : "draft"} {outcome(other.data?.results[0])}s
              </AttentionChip>
            )}
          </div>
          {one.steps.length === 0 ? (
            <p className="small second">No gate stands at this path.</p>
          ) : (
            <ol className="gate-steps">
              {one.steps.map((s, i) => (
                <li key={i} className={s.result}>
                  <span className="num">{s.rule || "·"}</span>
                  <span>
                    {new Set(one.steps.map((x) => x.gate)).size > 1 && `${s.gate}: `}
                    <Prose text={s.text} />
                  </span>
                  <span>{s.result}</span>
                </li>
              ))}
            </ol>
          )}
          {one.refusal && (
            <div className="gate-reads">
              <div className="gate-side-head">
                <b className="small">What the refused read</b>
                <span className="small second">
                  <span className="chip code">{one.refusal.language}</span> {one.refusal.status}
                </span>
              </div>
              <p className="small" lang={one.refusal.language}>
                “{one.refusal.title} {one.refusal.text}”
              </p>
              <a
                className="small"
                href={`/v1/gate/refusal?reference=${one.refusal.reference}`}
                target="_blank"
                rel="noreferrer"
              >
                See the page
              </a>
            </div>
          )}
        </div>
      ) : (
        <p className="small second">{one?.problem ?? "Nobody could be made up."}</p>
      )}
      <p className="small second">
        <Link
          to={`/rehearse?from=${encodeURIComponent(presenting ? "JP" : asked.from)}&path=${encodeURIComponent(asked.path)}`}
        >
          Rehearse several places
        </Link>
      </p>
    </section>
  );
}
