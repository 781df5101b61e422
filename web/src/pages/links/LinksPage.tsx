import "./links.css";
import "./panel.css";
import { Button, Input, Segmented } from "antd";
import { useDeferredValue, useState } from "react";
import { useLinks, type LinkRow, type Standing } from "../../api/links";
import { useRoute } from "../../components/addressParam";
import { Icon } from "../../components/icons";
import { Prose } from "../../components/parts";
import { useSite } from "../../components/site";
import { Bars, Empty, Failed } from "../../components/states";
import { tablet, useNarrow } from "../../components/useNarrow";
import { LinkForm, type Form } from "./LinkForm";
import { LinkPanel } from "./LinkPanel";
import { LinkTable } from "./LinkTable";

/** LinksPage lists the links of a site, with one of them open beside. */
export function LinksPage() {
  const { site } = useSite();
  const [params, change] = useRoute();
  const [form, setForm] = useState<Form>(null);
  const state = (params.get("state") ?? "all") as Standing;
  const search = params.get("search") ?? "";
  const links = useLinks(site?.host ?? "", state, useDeferredValue(search.trim()));
  const wide = !useNarrow(tablet);
  const pages = links.data?.pages ?? [];
  const rows = pages.flatMap((p) => p.links);
  const chosen = params.get("link") ?? "";
  const open = chosen || (wide ? (rows[0]?.link.code ?? "") : "");
  const set = (name: string, value: string) => change((p) => (value ? p.set(name, value) : p.delete(name)));
  const first = pages[0];
  if (links.isPending) return <Bars label="The links are loading" />;
  if (links.isError && !first)
    return (
      <div className="panel">
        <Failed
          what="The links could not be loaded."
          error={links.error}
          retry={() => void links.refetch()}
          after="Links are followed all the same."
        />
      </div>
    );
  return (
    <div className={open ? "linkspage with-link" : "linkspage"}>
      <section className="panel links-list" aria-label="Links" hidden={open !== "" && !wide}>
        <Head
          all={first?.all ?? 0}
          active={first?.active ?? 0}
          state={state}
          search={search}
          onState={(v) => set("state", v === "all" ? "" : v)}
          onSearch={(v) => set("search", v)}
          onNew={() => setForm({ code: "" })}
        />
        <div className="links-scroll">
          {rows.length > 0 ? (
            <LinkTable rows={rows} open={open} onOpen={(code) => set("link", code)} />
          ) : (
            <Nothing any={(first?.all ?? 0) > 0} onNew={() => setForm({ code: "" })} />
          )}
          {links.hasNextPage && (
            <div className="more">
              <Button loading={links.isFetchingNextPage} onClick={() => void links.fetchNextPage()}>
                Show more
              </Button>
            </div>
          )}
        </div>
        <AskedFor
          asked={first?.asked ?? []}
          others={first?.asked_others ?? 0}
          onMake={(code) => setForm({ code })}
        />
      </section>
      {open && (
        <LinkPanel
          key={open}
          code={open}
          others={othersOf(rows, open)}
          onClose={chosen ? () => set("link", "") : undefined}
          onEdit={(link) => setForm({ link })}
        />
      )}
      {form && site && (
        <LinkForm
          form={form}
          site={site.host}
          onClose={() => setForm(null)}
          onDone={(link) => {
            setForm(null);
            set("link", link.code);
          }}
        />
      )}
    </div>
  );
}

const othersOf = (rows: LinkRow[], code: string) => rows.map((r) => r.link).filter((l) => l.code !== code);

function Head(props: {
  all: number;
  active: number;
  state: Standing;
  search: string;
  onState: (state: Standing) => void;
  onSearch: (text: string) => void;
  onNew: () => void;
}) {
  const count = (n: number) => <span className="links-count">{n.toLocaleString("en")}</span>;
  return (
    <div className="links-head">
      <b className="links-all">
        {props.all.toLocaleString("en")} {props.all === 1 ? "link" : "links"}
      </b>
      <Segmented<Standing>
        aria-label="Which links"
        value={props.state}
        onChange={props.onState}
        options={[
          { value: "all", label: "All" },
          { value: "active", label: <>Active {count(props.active)}</> },
          { value: "ended", label: <>Ended {count(props.all - props.active)}</> },
        ]}
      />
      <Input
        className="links-search"
        prefix={<Icon name="lookup" />}
        aria-label="Search links"
        placeholder="Code or note"
        allowClear
        value={props.search}
        onChange={(e) => props.onSearch(e.target.value)}
      />
      <Button type="primary" className="links-new" icon={<Icon name="plus" />} onClick={props.onNew}>
        New link
      </Button>
    </div>
  );
}

function Nothing({ any, onNew }: { any: boolean; onNew: () => void }) {
  if (any)
    return <Empty title="No such link" text="No link has this in its code, name, note or destination." />;
  return (
    <Empty
      title="No links yet"
      text="A link is a short address for mails, posters and posts. It redirects at once, and says who followed it and from where."
    >
      <Button type="primary" onClick={onNew}>
        Make a link
      </Button>
    </Empty>
  );
}

/** askedShown is how many codes stand in the foot. */
const askedShown = 4;

function AskedFor(props: {
  asked: { code: string; requests: number }[];
  others: number;
  onMake: (code: string) => void;
}) {
  const shown = props.asked.slice(0, askedShown);
  const rest = props.others + props.asked.slice(askedShown).reduce((n, a) => n + a.requests, 0);
  if (shown.length === 0 && rest === 0) return null;
  return (
    <div className="links-asked second">
      <span>Asked for, but not made:</span>
      {shown.map((a) => (
        <span key={a.code}>
          <code className="addr">
            <Prose text={a.code} />
          </code>{" "}
          <b>{a.requests.toLocaleString("en")}</b>
        </span>
      ))}
      {rest > 0 && <span>others {rest.toLocaleString("en")}</span>}
      <span>answered 404</span>
      {shown[0] && (
        <Button type="link" size="small" onClick={() => props.onMake(shown[0]?.code ?? "")}>
          Make one
        </Button>
      )}
    </div>
  );
}
