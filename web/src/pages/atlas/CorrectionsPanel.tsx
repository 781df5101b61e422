import { App, Button, Checkbox, Input, InputNumber, Modal } from "antd";
import { useState } from "react";
import { accomplish, api, unwrap, type Correction, type NewCorrection } from "../../api/client";
import { useAction } from "../../api/changes";
import { useCorrections } from "../../api/queries";
import { clockTime } from "../../components/format";
import { Icon } from "../../components/icons";
import { Addr, CodeChip, Prose } from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { Bars, Failed } from "../../components/states";

/** CorrectionsPanel lists what the owner knows better than every source. */
export function CorrectionsPanel() {
  const list = useCorrections();
  const { presenting } = usePreferences();
  const [adding, setAdding] = useState(false);
  const corrections = list.data?.corrections ?? [];
  return (
    <section className="panel" aria-labelledby="corrections-title">
      <div className="panel-head keys-head">
        <h2 className="panel-title" id="corrections-title">
          Corrections
        </h2>
        <span className="small second">yours rank before every source, at once</span>
        {corrections.length > 0 && !presenting && (
          <a href="/v1/corrections?format=geofeed" download className="small">
            As a geofeed
          </a>
        )}
        <Button icon={<Icon name="plus" />} onClick={() => setAdding(true)}>
          Correct a range
        </Button>
      </div>
      {list.isPending ? (
        <Bars label="Corrections are loading" rows={2} />
      ) : list.isError ? (
        <Failed
          what="The corrections could not be loaded."
          error={list.error}
          retry={() => void list.refetch()}
        />
      ) : corrections.length === 0 ? (
        <p className="second corrections-none">
          No corrections yet. Add one where you know better than the sources; they can be exported as a
          geofeed.
        </p>
      ) : (
        <div className="scroll">
          <table className="evidence atlas-table">
            <thead>
              <tr>
                <th scope="col">Range</th>
                <th scope="col">Is in</th>
                <th scope="col">Why</th>
                <th scope="col">Made</th>
                <th scope="col">
                  <span className="unseen">Drop</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {corrections.map((c) => (
                <Row key={c.id} correction={c} />
              ))}
            </tbody>
          </table>
        </div>
      )}
      {adding && <CorrectionForm onClose={() => setAdding(false)} />}
    </section>
  );
}

function Row({ correction: c }: { correction: Correction }) {
  const { modal } = App.useApp();
  const { change } = useAction({
    call: () => accomplish(api.DELETE("/v1/corrections/{id}", { params: { path: { id: c.id } } })),
    stale: "all",
  });
  const drop = () =>
    void modal.confirm({
      title: "Delete this correction?",
      content: "The range reads from the sources again at once.",
      okText: "Drop it",
      onOk: () => change(),
    });
  return (
    <tr>
      <td className="nowrap">
        <Addr text={c.range} />
      </td>
      <td>
        {c.do_not_locate ? (
          "not to be located"
        ) : (
          <>
            {[c.city, c.region_code].filter(Boolean).join(", ")} <CodeChip code={c.country_code ?? ""} />
          </>
        )}
      </td>
      <td className="breakable">
        {c.note ? <Prose text={c.note} /> : <span className="second">not said</span>}
      </td>
      <td className="small second">
        {clockTime(c.made_at)} by {c.made_by}
      </td>
      <td className="right">
        <button type="button" className="linklike small" onClick={drop}>
          Drop
        </button>
      </td>
    </tr>
  );
}

const fields: {
  key: "country_code" | "region_code" | "city" | "time_zone" | "note";
  name: string;
  hint: string;
}[] = [
  { key: "country_code", name: "Country code", hint: "PT" },
  { key: "region_code", name: "Region code, if known", hint: "PT-11" },
  { key: "city", name: "City, if known", hint: "Lisbon" },
  { key: "time_zone", name: "Time zone, if known", hint: "Europe/Lisbon" },
  { key: "note", name: "Why", hint: "moved in October" },
];

const points: { key: "latitude" | "longitude" | "radius_km"; name: string; min: number; max: number }[] = [
  { key: "latitude", name: "Latitude", min: -90, max: 90 },
  { key: "longitude", name: "Longitude", min: -180, max: 180 },
  { key: "radius_km", name: "Radius, km", min: 0.1, max: 20_100 },
];

/** withNumber sets a number of a draft; null leaves it out. */
function withNumber(draft: NewCorrection, key: (typeof points)[number]["key"], n: number | null) {
  const entries = Object.entries(draft).filter(([name]) => name !== key);
  return Object.fromEntries(n === null ? entries : [...entries, [key, n]]) as unknown as NewCorrection;
}

/** CorrectionForm says that a range is elsewhere. */
export function CorrectionForm({ range = "", onClose }: { range?: string; onClose: () => void }) {
  const [draft, setDraft] = useState<NewCorrection>({ range });
  const save = useAction<unknown>({
    call: () => {
      const body: NewCorrection = draft.do_not_locate
        ? { range: draft.range, do_not_locate: true, ...(draft.note ? { note: draft.note } : {}) }
        : draft;
      return unwrap(api.POST("/v1/corrections", { body }));
    },
    stale: "all",
    done: onClose,
    quiet: true,
  });
  return (
    <Modal
      open
      title="Correct a range"
      okText="Correct it"
      confirmLoading={save.busy}
      onOk={() => save.change()}
      onCancel={onClose}
    >
      <div className="keyform">
        <label>
          Range: a prefix, an address or first-last
          <Input
            className="mono"
            value={draft.range}
            placeholder="198.18.7.0/24"
            onChange={(e) => setDraft({ ...draft, range: e.target.value })}
          />
        </label>
        <Checkbox
          checked={draft.do_not_locate === true}
          onChange={(e) => setDraft({ ...draft, do_not_locate: e.target.checked })}
        >
          It is not to be located
        </Checkbox>
        {fields
          .filter((f) => !draft.do_not_locate || f.key === "note")
          .map((f) => (
            <label key={f.key}>
              {f.name}
              <Input
                value={draft[f.key] ?? ""}
                placeholder={f.hint}
                maxLength={300}
                onChange={(e) => setDraft({ ...draft, [f.key]: e.target.value })}
              />
            </label>
          ))}
        {!draft.do_not_locate && (
          <div className="correction-point">
            {points.map((f) => (
              <label key={f.key}>
                {f.name}
                <InputNumber
                  value={draft[f.key] ?? null}
                  min={f.min}
                  max={f.max}
                  onChange={(n) => setDraft(withNumber(draft, f.key, n))}
                />
              </label>
            ))}
          </div>
        )}
        {save.failed && (
          <p className="signin-failed" role="alert">
            {save.failed}
          </p>
        )}
      </div>
    </Modal>
  );
}
