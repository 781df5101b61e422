import { Alert, Button, Input, InputNumber, Modal, Select } from "antd";
import dayjs from "dayjs";
import { useState } from "react";
import { api, unwrap } from "../../api/client";
import { useChange } from "../../api/changes";
import type { LinkRoute, TrackedLink } from "../../api/links";
import { Icon } from "../../components/icons";

interface Draft {
  code: string;
  name: string;
  note: string;
  destination: string;
  status: number;
  until: string;
  limit: number | null;
  handOn: string;
  routes: DraftRoute[];
}

interface DraftRoute {
  countries: string;
  languages: string;
  variants: string;
  destination: string;
}

const statuses = [
  { value: 302, label: "302, found" },
  { value: 307, label: "307, temporary" },
  { value: 301, label: "301, for good: browsers keep it" },
  { value: 308, label: "308, for good: browsers keep it" },
];

const list = (text: string) =>
  text
    .split(/[,\s]+/)
    .map((one) => one.trim())
    .filter(Boolean);

const begun = (form: NonNullable<Form>): Draft => {
  if (!("link" in form))
    return {
      code: form.code,
      name: "",
      note: "",
      destination: "",
      status: 302,
      until: "",
      limit: null,
      handOn: "",
      routes: [],
    };
  const { link } = form;
  return {
    code: link.code,
    name: link.name,
    note: link.note,
    destination: link.destination,
    status: link.status,
    until: link.until === null ? "" : dayjs(link.until).format("YYYY-MM-DDTHH:mm"),
    limit: link.limit,
    handOn: link.hand_on.join(", "),
    routes: link.routes.map((r) => ({
      countries: r.countries.join(", "),
      languages: r.languages.join(", "),
      variants: r.variants.join(", "),
      destination: r.destination,
    })),
  };
};

const routeOf = (r: DraftRoute): LinkRoute => ({
  countries: r.countries
    .split(",")
    .map((c) => c.trim())
    .filter(Boolean),
  languages: list(r.languages),
  variants: list(r.variants),
  destination: r.destination.trim(),
});

/** Form is what is being made or changed: a new link, perhaps of a code, or one that is there. */
export type Form = { code: string } | { link: TrackedLink } | null;

/** LinkForm makes a link, or changes one. */
export function LinkForm(props: {
  form: NonNullable<Form>;
  site: string;
  onClose: () => void;
  onDone: (link: TrackedLink) => void;
}) {
  const [d, setDraft] = useState(() => begun(props.form));
  const there = "link" in props.form ? props.form.link : null;
  const set = (part: Partial<Draft>) => setDraft({ ...d, ...part });
  const said = () => ({
    name: d.name,
    note: d.note,
    destination: d.destination.trim(),
    status: d.status as 301 | 302 | 307 | 308,
    until: d.until === "" ? null : dayjs(d.until).toISOString(),
    limit: d.limit,
    hand_on: list(d.handOn),
    routes: d.routes.map(routeOf),
  });
  const { change, busy, failed } = useChange({
    call: () =>
      there
        ? unwrap(api.PATCH("/v1/links/{code}", { params: { path: { code: there.code } }, body: said() }))
        : unwrap(
            api.POST("/v1/links", {
              body: { ...said(), site: props.site, ...(d.code.trim() ? { code: d.code.trim() } : {}) },
            }),
          ),
    stale: ["links", "clicks"],
    quiet: true,
    done: (link) => {
      props.onDone(link);
      return there ? "Saved." : `${link.url} is followed from now on.`;
    },
  });
  const send = () => change(undefined);
  return (
    <Modal
      open
      title={there ? `Link ${there.code}` : "New link"}
      onCancel={props.onClose}
      width={620}
      footer={[
        <Button key="cancel" onClick={props.onClose}>
          Cancel
        </Button>,
        <Button
          key="save"
          type="primary"
          loading={busy}
          disabled={d.destination.trim() === ""}
          onClick={send}
        >
          {there ? "Save" : "Make the link"}
        </Button>,
      ]}
    >
      <form
        className="link-form"
        onSubmit={(e) => {
          e.preventDefault();
          send();
        }}
      >
        {failed && <Alert type="error" showIcon title={failed} />}
        <label>
          <span>Leads to</span>
          <Input
            className="mono"
            value={d.destination}
            placeholder="/en/tickets"
            autoFocus
            onChange={(e) => set({ destination: e.target.value })}
          />
        </label>
        <div className="link-form-two">
          <label>
            <span>Code</span>
            <Input
              className="mono"
              value={d.code}
              disabled={there !== null}
              placeholder="made up for you"
              maxLength={32}
              onChange={(e) => set({ code: e.target.value })}
            />
          </label>
          <label>
            <span>Name</span>
            <Input
              value={d.name}
              placeholder="Posters in the towns"
              maxLength={80}
              onChange={(e) => set({ name: e.target.value })}
            />
          </label>
        </div>
        <label>
          <span>Note</span>
          <Input value={d.note} maxLength={1000} onChange={(e) => set({ note: e.target.value })} />
        </label>
        <Routes routes={d.routes} onChange={(routes) => set({ routes })} />
        <div className="link-form-two">
          <label>
            <span>Ends</span>
            <Input type="datetime-local" value={d.until} onChange={(e) => set({ until: e.target.value })} />
          </label>
          <label>
            <span>Limit of clicks</span>
            <InputNumber
              value={d.limit}
              min={1}
              precision={0}
              placeholder="none"
              onChange={(limit) => set({ limit })}
            />
          </label>
          <label>
            <span>Answers</span>
            <Select
              aria-label="Answers"
              value={d.status}
              options={statuses}
              onChange={(status: number) => set({ status })}
            />
          </label>
          <label>
            <span>Query parameters handed on</span>
            <Input
              value={d.handOn}
              placeholder="none; * for all"
              onChange={(e) => set({ handOn: e.target.value })}
            />
          </label>
        </div>
        <button type="submit" hidden />
      </form>
    </Modal>
  );
}

function Routes({ routes, onChange }: { routes: DraftRoute[]; onChange: (routes: DraftRoute[]) => void }) {
  const set = (i: number, part: Partial<DraftRoute>) =>
    onChange(routes.map((r, n) => (n === i ? { ...r, ...part } : r)));
  return (
    <fieldset className="link-form-routes">
      <legend>Another destination for some; the first that fits</legend>
      {routes.map((r, i) => (
        <div key={i} className="link-form-route">
          <Input
            aria-label={`Countries of route ${i + 1}`}
            placeholder="PT, Brazil"
            value={r.countries}
            onChange={(e) => set(i, { countries: e.target.value })}
          />
          <Input
            aria-label={`Languages of route ${i + 1}`}
            placeholder="fr"
            value={r.languages}
            onChange={(e) => set(i, { languages: e.target.value })}
          />
          <Input
            aria-label={`Variants of route ${i + 1}`}
            placeholder="offer=club"
            value={r.variants}
            onChange={(e) => set(i, { variants: e.target.value })}
          />
          <Input
            className="mono"
            aria-label={`Destination of route ${i + 1}`}
            placeholder="/fr/billets"
            value={r.destination}
            onChange={(e) => set(i, { destination: e.target.value })}
          />
          <Button
            type="text"
            aria-label={`Drop route ${i + 1}`}
            icon={<Icon name="close" />}
            onClick={() => onChange(routes.filter((_, n) => n !== i))}
          />
        </div>
      ))}
      <div className="link-form-add">
        {routes.length > 0 && (
          <span className="small quiet">Countries, languages, variants, destination</span>
        )}
        <Button
          size="small"
          icon={<Icon name="plus" />}
          onClick={() =>
            onChange([...routes, { countries: "", languages: "", variants: "", destination: "" }])
          }
        >
          Add a route
        </Button>
      </div>
    </fieldset>
  );
}
