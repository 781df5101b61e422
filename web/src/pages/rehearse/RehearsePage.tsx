import "./rehearse.css";
import { Button, Input, Select, Switch } from "antd";
import dayjs from "dayjs";
import { useState } from "react";
import type { Rehearsed } from "../../api/client";
import { useRehearsal } from "../../api/gate";
import { useCountryChoices } from "../../api/queries";
import { useRoute } from "../../components/addressParam";
import { placeName } from "../../components/format";
import { Icon } from "../../components/icons";
import { Flag, Prose } from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { useSite } from "../../components/site";
import { Bars, Failed } from "../../components/states";
import { useNarrow, phone } from "../../components/useNarrow";
import { PlaceMap } from "../../features/map/PlaceMap";
import { alike, askedOf, expectations, mostPlaces, requestOf, write, type Asked } from "./request";
import { rowsOf } from "./rows";

/** RehearsePage tries visits from several places side by side; nothing is stored. */
export function RehearsePage() {
  const { site } = useSite();
  const [params, change] = useRoute();
  const asked = askedOf(params);
  const rehearsal = useRehearsal(site ? requestOf(site.host, asked) : null);
  const [differing, setDiffering] = useState(false);
  const [round, setRound] = useState(0);
  const put = (part: Partial<Asked>) => change((p) => write(p, { ...asked, ...part }));
  return (
    <div className="rehearsepage">
      <Request
        key={params.toString() + String(round)}
        asked={asked}
        differing={differing}
        busy={rehearsal.isFetching}
        onDiffering={setDiffering}
        onAsk={(next) => {
          if (JSON.stringify(next) === JSON.stringify(asked)) void rehearsal.refetch();
          else put(next);
          setRound(round + 1);
        }}
      />
      {rehearsal.isPending ? (
        <Bars rows={6} label="The visits are made up" />
      ) : rehearsal.isError ? (
        <div className="panel">
          <Failed
            what="The visits could not be rehearsed."
            error={rehearsal.error}
            retry={() => void rehearsal.refetch()}
            after="Nothing was stored."
          />
        </div>
      ) : (
        <div className={rehearsal.isPlaceholderData ? "dimmed" : ""}>
          <Columns
            results={rehearsal.data.results}
            took={rehearsal.data.took_ms}
            differing={differing}
            onRemove={
              asked.from.length > 1 ? (i) => put({ from: asked.from.filter((_, n) => n !== i) }) : undefined
            }
          />
          <Foot site={site?.host ?? ""} results={rehearsal.data.results} />
        </div>
      )}
    </div>
  );
}

function Request(props: {
  asked: Asked;
  differing: boolean;
  busy: boolean;
  onDiffering: (on: boolean) => void;
  onAsk: (asked: Asked) => void;
}) {
  const { presenting } = usePreferences();
  const [draft, setDraft] = useState(props.asked);
  const [place, setPlace] = useState("");
  const countries = useCountryChoices().data?.countries ?? [];
  const add = (from: string) => {
    const text = from.trim();
    if (text) props.onAsk({ ...draft, from: [...draft.from, text].slice(-mostPlaces) });
  };
  return (
    <form
      className="rehearse-request"
      onSubmit={(e) => {
        e.preventDefault();
        if (place.trim()) add(place);
        else props.onAsk(draft);
      }}
    >
      <label>
        <span className="small second">Page</span>
        <Input
          className="mono"
          aria-label="Page"
          value={draft.path}
          onChange={(e) => setDraft({ ...draft, path: e.target.value })}
        />
      </label>
      <label>
        <span className="small second">Language header</span>
        <Input
          className="mono"
          aria-label="Language header"
          placeholder="what is likely there"
          value={draft.language}
          onChange={(e) => setDraft({ ...draft, language: e.target.value })}
        />
      </label>
      <label>
        <span className="small second">When</span>
        <Input
          type="datetime-local"
          aria-label="When"
          value={draft.at ? dayjs(draft.at).format("YYYY-MM-DDTHH:mm") : ""}
          onChange={(e) =>
            setDraft({ ...draft, at: e.target.value ? dayjs(e.target.value).toISOString() : "" })
          }
        />
      </label>
      <label>
        <span className="small second">Gate</span>
        <Select
          aria-label="Gate"
          value={draft.draft ? "draft" : "live"}
          options={[
            { value: "live", label: "Live" },
            { value: "draft", label: "Draft" },
          ]}
          onChange={(by: string) => setDraft({ ...draft, draft: by === "draft" })}
        />
      </label>
      <label>
        <span className="small second">Another place</span>
        <Input
          aria-label="Another place"
          list="rehearse-places"
          type={presenting ? "password" : "text"}
          autoComplete="off"
          placeholder="country, town, address"
          value={place}
          onChange={(e) => setPlace(e.target.value)}
        />
        <datalist id="rehearse-places">
          {countries.map((c) => (
            <option key={c.country_code} value={c.country_code}>
              {c.name}
            </option>
          ))}
        </datalist>
      </label>
      <div className="rehearse-actions">
        <Button icon={<Icon name="plus" />} disabled={!place.trim()} onClick={() => add(place)}>
          Add a place
        </Button>
        <Button type="primary" htmlType="submit" loading={props.busy}>
          Rehearse
        </Button>
      </div>
      <div className="rehearse-switches">
        <label className="switch">
          <Switch
            size="small"
            checked={props.differing}
            onChange={props.onDiffering}
            aria-label="Only what differs"
          />
          Only what differs
        </label>
        <label className="switch">
          <Switch
            size="small"
            checked={draft.page}
            onChange={(page) => props.onAsk({ ...draft, page })}
            aria-label="Ask the site itself"
          />
          Ask the site itself
        </label>
      </div>
    </form>
  );
}

function Columns(props: {
  results: Rehearsed[];
  took: number;
  differing: boolean;
  onRemove: ((index: number) => void) | undefined;
}) {
  const narrow = useNarrow(phone);
  const [at, setAt] = useState(0);
  const { results } = props;
  const made = results.filter((r) => r.card);
  const shown = narrow
    ? results.slice(Math.min(at, results.length - 1), Math.min(at, results.length - 1) + 1)
    : results;
  const rows = rowsOf(results).filter((row) => !props.differing || !alike(made, row.key));
  const folded = rowsOf(results).length - rows.length;
  const scale = Math.max(40, ...made.map((r) => Math.min(r.card?.location.radius_km ?? 0, 300)));
  const label = (r: Rehearsed) => (r.card ? placeName(r.card.location) : r.from);
  return (
    <>
      {narrow && results.length > 1 && (
        <div className="rehearse-tabs" role="tablist" aria-label="Places">
          {results.map((r, i) => (
            <button
              key={i}
              type="button"
              role="tab"
              aria-selected={i === Math.min(at, results.length - 1)}
              onClick={() => setAt(i)}
            >
              {label(r)}
            </button>
          ))}
        </div>
      )}
      <div className="panel rehearse-scroll">
        <table className="rehearse-table">
          <caption className="hidden-caption">Visits from several places, side by side</caption>
          <thead>
            <tr>
              <th scope="col">
                <span className="small second">
                  Ran in {Math.max(1, Math.round(props.took))} ms. Nothing was stored.
                </span>
              </th>
              {shown.map((r) => {
                const i = results.indexOf(r);
                const w = r.card?.location;
                return (
                  <th key={i} scope="col">
                    <div className="rehearse-map">
                      {w && w.latitude !== null && w.longitude !== null && w.radius_km !== null ? (
                        <PlaceMap
                          latitude={w.latitude}
                          longitude={w.longitude}
                          radiusKm={w.radius_km}
                          name={placeName(w)}
                          wide={w.level === "country"}
                          scaleKm={scale}
                        />
                      ) : (
                        <span className="rehearse-nomap small second">no point</span>
                      )}
                    </div>
                    <div className="rehearse-place">
                      <span className="serif">
                        <Flag code={w?.country_code ?? null} />{" "}
                        {w?.country_code ? placeName(w) : r.card ? "No location" : <Prose text={r.from} />}
                      </span>
                      {props.onRemove && (
                        <button
                          type="button"
                          className="iconbutton"
                          aria-label={`Remove ${label(r)}`}
                          onClick={() => props.onRemove?.(i)}
                        >
                          <Icon name="close" />
                        </button>
                      )}
                    </div>
                    <span className="small second">
                      {w?.country_code
                        ? [w.names.city ? w.names.region : null, w.names.country].filter(Boolean).join(", ")
                        : (r.problem ?? "none")}
                    </span>
                  </th>
                );
              })}
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.title}>
                <th scope="row">
                  {row.title}
                  {row.under && <span className="small second">{row.under}</span>}
                </th>
                {shown.map((r) => (
                  <td key={results.indexOf(r)}>
                    {r.card ? row.cell(r) : <span className="second">nobody</span>}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {props.differing && folded > 0 && <p className="small second">{folded} rows are alike and folded.</p>}
    </>
  );
}

function Foot({ site, results }: { site: string; results: Rehearsed[] }) {
  const { presenting } = usePreferences();
  const save = () => {
    const url = URL.createObjectURL(new Blob([expectations(site, results)], { type: "application/json" }));
    const a = document.createElement("a");
    a.href = url;
    a.download = "expectations.json";
    a.click();
    URL.revokeObjectURL(url);
  };
  return (
    <div className="rehearse-foot">
      <Button disabled={presenting} onClick={save}>
        Save as expectation
      </Button>
      <span className="small second">
        A file for <span className="addr">eastporch rehearse --expect expectations.json</span>, which fails
        where anything is otherwise. The address of this page can be shared with others who are signed in.
      </span>
    </div>
  );
}
