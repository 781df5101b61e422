import "./notices.css";
import "./layout.css";
import { Button } from "antd";
import { useState } from "react";
import { useNotices, type Channel, type Notice, type NoticeList } from "../../api/notices";
import { useRoute } from "../../components/addressParam";
import { Icon } from "../../components/icons";
import { AttentionChip, Prose } from "../../components/parts";
import { useSite } from "../../components/site";
import { Bars, Empty, Failed } from "../../components/states";
import { ChannelForm } from "./ChannelForm";
import { Editor } from "./Editor";
import { Sent } from "./Sent";
import { moment, where } from "./words";

/** isNew stands in place of a name. */
const isNew = "+";

/** NoticesPage lists the notices of a site with one of them open, its channels, and what was sent. */
export function NoticesPage() {
  const { site } = useSite();
  const [params, change] = useRoute();
  const [channel, setChannel] = useState("");
  const list = useNotices(site?.host ?? "");
  if (list.isPending) return <Bars label="The notices are loading" />;
  if (list.isError)
    return (
      <div className="panel">
        <Failed
          what="The notices could not be loaded."
          error={list.error}
          retry={() => void list.refetch()}
          after="They are sent all the same."
        />
      </div>
    );
  const { notices: all, channels } = list.data;
  const chosen = params.get("notice") ?? "";
  const open = chosen === isNew ? undefined : (all.find((n) => n.name === chosen) ?? all[0]);
  const go = (name: string) => change((p) => (name ? p.set("notice", name) : p.delete("notice")));
  const form = channel !== "" && (
    <ChannelForm
      key={channel}
      host={site?.host ?? ""}
      channel={channels.find((c) => c.name === channel)}
      inside={list.data.inside}
      taken={channels.map((c) => c.name)}
      onClose={() => setChannel("")}
    />
  );
  if (channels.length === 0)
    return (
      <div className="panel">
        <Empty
          title="No channel yet"
          text="A notice is a message by mail or webhook: when somebody asks where an address is, or when a rule is met. First say over which mail server or webhook messages leave."
        >
          <Button type="primary" onClick={() => setChannel(isNew)}>
            Add a channel
          </Button>
        </Empty>
        {form}
      </div>
    );
  if (chosen !== isNew && !open)
    return (
      <div className="noticespage">
        <div className="panel notices-side">
          <Channels channels={channels} onOpen={setChannel} />
        </div>
        <div className="panel">
          <Empty
            title="No notices yet"
            text="A notice is written when somebody asks, or when a rule is met: a first visit from a country, refusals that jump, a checkup that warns."
          >
            <Button type="primary" onClick={() => go(isNew)}>
              Write a notice
            </Button>
          </Empty>
        </div>
        {form}
      </div>
    );
  return (
    <div className="noticespage">
      <div className="panel notices-side">
        <List list={list.data} open={open?.name ?? isNew} onOpen={go} />
        <Channels channels={channels} onOpen={setChannel} />
      </div>
      <div className="notices-main">
        <Editor
          key={`${site?.host} ${open?.name ?? isNew}`}
          list={list.data}
          notice={open}
          onDone={go}
          onChannel={setChannel}
        />
        <Sent notice={open?.name ?? ""} />
      </div>
      {form}
    </div>
  );
}

function List(props: { list: NoticeList; open: string; onOpen: (name: string) => void }) {
  return (
    <section className="notices-list" aria-label="Notices">
      <div className="notices-head">
        <h2>Notices</h2>
        <button type="button" className="textlink" onClick={() => props.onOpen(isNew)}>
          <Icon name="plus" /> New
        </button>
      </div>
      <ul>
        {props.open === isNew && (
          <li className="chosen">
            <b>New notice</b>
            <span className="small second">not saved yet</span>
          </li>
        )}
        {props.list.notices.map((n) => (
          <li key={n.name} className={n.name === props.open ? "chosen" : ""}>
            <button type="button" onClick={() => props.onOpen(n.name)} aria-pressed={n.name === props.open}>
              <b>
                <Prose text={n.said.title} />
              </b>
              <span className="small second">
                <Prose text={n.sentence} />
              </span>
              <span className="notices-foot">
                <span className="small second notices-last">
                  <Icon name={kindOf(props.list.channels, n) === "webhook" ? "hook" : "mail"} />
                  {kindOf(props.list.channels, n)}
                  {n.last_sent && `, ${moment(n.last_sent)}`}
                </span>
                <Standing notice={n} />
              </span>
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

const kindOf = (channels: Channel[], n: Notice) =>
  channels.find((c) => c.name === n.said.channel)?.said.kind ?? "no channel";

function Standing({ notice: n }: { notice: Notice }) {
  if (n.standing === "off") return <span className="chip outcome off">off</span>;
  if (n.standing === "attention")
    return (
      <span title={n.reason ?? ""}>
        <AttentionChip>needs a look</AttentionChip>
      </span>
    );
  return (
    <span className="chip outcome ok">
      <Icon name="check" /> on
    </span>
  );
}

/** Channels says how the ways out stand, and what of their allowance is used. */
function Channels({ channels, onOpen }: { channels: Channel[]; onOpen: (name: string) => void }) {
  return (
    <section className="notices-channels" aria-label="Channels">
      <div className="notices-head">
        <h2>Channels</h2>
        <button type="button" className="textlink" onClick={() => onOpen(isNew)}>
          <Icon name="plus" /> Add
        </button>
      </div>
      <ul>
        {channels.map((c) => (
          <li key={c.name}>
            <button type="button" onClick={() => onOpen(c.name)} aria-label={`Channel ${c.name}`}>
              <span className="notices-foot">
                <b className="cut">{c.name}</b>
                <ChannelChip channel={c} />
              </span>
              <span className="small second">
                <Prose text={where(c)} />
              </span>
              {c.reason && (c.standing === "fails" || c.standing === "gone") && (
                <span className="small channel-why">
                  <Prose text={c.reason} />
                  {c.next_try && `, again ${moment(c.next_try)}`}
                </span>
              )}
              <span className="small second">
                {c.said.kind === "mail"
                  ? `${c.sent_today} of ${c.said.a_day} mails sent in 24 hours; at most ${c.said.recipient_an_hour} an hour to one recipient.`
                  : `${c.sent_today} sent in 24 hours.`}
              </span>
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

function ChannelChip({ channel: c }: { channel: Channel }) {
  switch (c.standing) {
    case "ready":
      return (
        <span className="chip outcome ok">
          <Icon name="check" /> ready
        </span>
      );
    case "not used yet":
      return <span className="chip outcome off">not used yet</span>;
    case "fails":
      return (
        <span className="chip outcome bad">
          <Icon name="close" /> fails
        </span>
      );
    case "gone":
      return (
        <span className="chip outcome bad">
          <Icon name="close" /> 410 gone
        </span>
      );
  }
}
