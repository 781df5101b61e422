import "./companions.css";
import { Button } from "antd";
import { useCompanions, type Companion, type CompanionList } from "../../api/companions";
import { useRoute } from "../../components/addressParam";
import { Icon } from "../../components/icons";
import { AttentionChip, Prose } from "../../components/parts";
import { useSite } from "../../components/site";
import { Bars, Empty, Failed } from "../../components/states";
import { Editor } from "./Editor";
import { Sends } from "./Sends";
import { failing } from "./words";

/** isNew stands in the page's address in place of a name. */
const isNew = "+";

/** CompanionsPage lists the companions of a site, with one of them open. */
export function CompanionsPage() {
  const { site } = useSite();
  const [params, change] = useRoute();
  const list = useCompanions(site?.host ?? "");
  if (list.isPending) return <Bars label="The companions are loading" />;
  if (list.isError)
    return (
      <div className="panel">
        <Failed
          what="The companions could not be loaded."
          error={list.error}
          retry={() => void list.refetch()}
          after="Pages have their answers all the same."
        />
      </div>
    );
  const all = list.data.companions;
  const chosen = params.get("companion") ?? "";
  const open = chosen === isNew ? undefined : (all.find((c) => c.name === chosen) ?? all[0]);
  const go = (name: string) => change((p) => (name ? p.set("companion", name) : p.delete("companion")));
  if (chosen !== isNew && !open)
    return (
      <div className="panel">
        <Empty
          title="No companions yet"
          text="A companion is a service outside, such as a weather service, that is asked with the place of your visitors, never with their address. Your page shows what it says."
        >
          <Button type="primary" onClick={() => go(isNew)}>
            Add a companion
          </Button>
        </Empty>
      </div>
    );
  return (
    <div className="companionspage">
      <div className="companions-side">
        <List list={list.data} open={open?.name ?? isNew} onOpen={go} />
        {open && <Sends companion={open} />}
      </div>
      <Editor
        key={`${site?.host} ${open?.name ?? isNew}`}
        list={list.data}
        companion={open}
        onDone={(name) => go(name)}
      />
    </div>
  );
}

function List(props: { list: CompanionList; open: string; onOpen: (name: string) => void }) {
  return (
    <section className="panel companions-list" aria-label="Companions">
      <div className="companions-head">
        <b>Companions</b>
        <Button size="small" icon={<Icon name="plus" />} onClick={() => props.onOpen(isNew)}>
          New
        </Button>
      </div>
      <ul>
        {props.open === isNew && (
          <li className="chosen">
            <b>New companion</b>
            <span className="small second">not saved yet</span>
          </li>
        )}
        {props.list.companions.map((c) => (
          <li key={c.name} className={c.name === props.open ? "chosen" : ""}>
            <button type="button" onClick={() => props.onOpen(c.name)} aria-pressed={c.name === props.open}>
              <span className="companions-name">
                <b className="cut">
                  <Prose text={c.said.title} />
                </b>
                {c.standing === "fails" && <AttentionChip>fails</AttentionChip>}
                {c.standing === "used up" && <AttentionChip>used up</AttentionChip>}
              </span>
              <span className="small second cut">
                <Prose text={c.said.note || c.name} />
              </span>
              <Standing companion={c} />
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Standing({ companion: c }: { companion: Companion }) {
  const used = (
    <span>
      {c.used_today.toLocaleString("en")} of {c.said.a_day.toLocaleString("en")}
    </span>
  );
  if (c.standing === "fails") {
    const { since, rest } = failing(c);
    return (
      <span className="small companions-why">
        <Prose text={`${since} ${rest}`} />
      </span>
    );
  }
  return (
    <span className="small second companions-stand">
      <span>
        {c.standing === "answers" && <Icon name="check" />} {c.standing}
      </span>
      {used}
    </span>
  );
}
