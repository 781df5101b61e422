import { Button, Modal, Segmented } from "antd";
import { useState } from "react";
import { accomplish, api, unwrap } from "../../api/client";
import { useAction } from "../../api/changes";
import { useMessage, useMessages, type Message, type MessageList } from "../../api/notices";
import { Heads } from "../../components/Heads";
import { Icon } from "../../components/icons";
import { Prose } from "../../components/parts";
import { useSite } from "../../components/site";
import { Bars, Failed } from "../../components/states";
import { moment, outcome } from "./words";

const page = 20;
const most = 200;

/** Sent lists what notices wrote in the last 7 days, and what became of it. */
export function Sent({ notice }: { notice: string }) {
  const { site } = useSite();
  const host = site?.host ?? "";
  const [isOwn, setIsOwn] = useState(false);
  const [limit, setLimit] = useState(page);
  const [open, setOpen] = useState("");
  const list = useMessages(host, isOwn ? notice : "", limit);
  return (
    <section className="panel notice-sent" aria-label="Sent">
      <div className="sent-head">
        <p>{list.data ? <Sums list={list.data} /> : <b>Sent</b>}</p>
        {notice !== "" && (
          <Segmented
            size="small"
            aria-label="Of which notices"
            value={isOwn}
            onChange={(own: boolean) => setIsOwn(own)}
            options={[
              { value: false, label: "All" },
              { value: true, label: "This notice" },
            ]}
          />
        )}
      </div>
      {list.isPending && <Bars label="What was sent is loading" />}
      {list.isError && (
        <Failed
          what="What was sent could not be loaded."
          error={list.error}
          retry={() => void list.refetch()}
        />
      )}
      {list.data && list.data.messages.length > 0 && (
        <table className="sent-table">
          <Heads of={["Time", "Subject", "To", "Result", ">Attempts", ">"]} />
          <tbody>
            {list.data.messages.map((m) => (
              <Row key={m.id} message={m} host={host} onOpen={() => setOpen(m.id)} />
            ))}
          </tbody>
        </table>
      )}
      {list.data?.messages.length === 0 && (
        <p className="small second sent-none">
          Nothing was written in the last 7 days{isOwn ? " by this notice" : ""}.
        </p>
      )}
      {list.data?.next && limit < most && (
        <Button type="text" className="sent-more" onClick={() => setLimit(Math.min(most, limit * 3))}>
          Show more
        </Button>
      )}
      {list.data?.next && limit >= most && (
        <p className="small second sent-none">Older ones: eastporch notices sent, or the API.</p>
      )}
      {open !== "" && <Whole id={open} host={host} onClose={() => setOpen("")} />}
    </section>
  );
}

/** Sums sums it up in a sentence, and says what is left out. */
function Sums({ list }: { list: MessageList }) {
  const s = list.sums;
  const parts = [
    [s.delivered, "delivered"],
    [s.waiting, "waiting"],
    [s.failed, "failed"],
    ...(s.dropped > 0 ? [[s.dropped, "dropped"]] : []),
    ...(s.held > 0 ? [[s.held, "held by quiet times"]] : []),
    ...(s.left_out > 0 ? [[s.left_out, "left out by limits"]] : []),
  ] as [number, string][];
  return (
    <>
      <b>Sent</b> the last 7 days:{" "}
      {parts.map(([n, word], i) => (
        <span key={word}>
          {i > 0 && ", "}
          <b className="num">{n.toLocaleString("en")}</b> {word}
        </span>
      ))}
    </>
  );
}

function Row({ message: m, host, onOpen }: { message: Message; host: string; onOpen: () => void }) {
  const what = outcome(m);
  const act = useAction({
    call: async () => {
      const params = { params: { path: { id: m.id }, query: { site: host } } };
      if (m.state === "waiting") await accomplish(api.DELETE("/v1/messages/{id}", params));
      else await unwrap(api.POST("/v1/messages/{id}/resend", params));
    },
    stale: ["messages", "notices", "message"],
    done: () => (m.state === "waiting" ? "Dropped." : "It waits to be sent again."),
  });
  const more = m.to.length - 1;
  return (
    <tr>
      <td className="second small">{moment(m.time)}</td>
      <td>
        <button type="button" className="plainbutton cut" onClick={onOpen}>
          <Prose text={m.subject} />
        </button>
      </td>
      <td>
        <span className="cut">
          {m.to[0] ?? "nobody"}
          {more > 0 && <span className="small second"> +{more}</span>}
        </span>
      </td>
      <td>
        <span className={`chip outcome ${what.tone}`} title={m.result}>
          {what.tone === "ok" && <Icon name="check" />}
          {what.tone === "bad" && <Icon name="close" />}
          <span className="cut">
            <Prose text={what.text} />
          </span>
        </span>
      </td>
      <td className="right second">
        {m.state === "delivered" ? m.attempts : `${m.attempts} of ${m.attempts_most}`}
      </td>
      <td className="right">
        <button type="button" className="textlink" disabled={act.busy} onClick={act.change}>
          {m.state === "waiting" ? "Drop" : "Resend"}
        </button>
      </td>
    </tr>
  );
}

/** Whole shows what a message says, and every attempt to deliver it. */
function Whole({ id, host, onClose }: { id: string; host: string; onClose: () => void }) {
  const whole = useMessage(host, id);
  const now = useAction({
    call: () =>
      unwrap(api.POST("/v1/messages/{id}/resend", { params: { path: { id }, query: { site: host } } })),
    stale: ["messages", "message"],
    done: () => "It is tried now.",
  });
  const m = whole.data?.message;
  return (
    <Modal
      open
      width={640}
      title={m ? <Prose text={m.subject} /> : "A message"}
      onCancel={onClose}
      footer={
        m?.state === "waiting" ? (
          <Button loading={now.busy} onClick={now.change}>
            Try now
          </Button>
        ) : null
      }
    >
      {whole.isPending && <Bars label="The message is loading" />}
      {whole.isError && <Failed what="The message could not be loaded." error={whole.error} />}
      {whole.data && m && (
        <div className="message-whole">
          <p className="small second">
            {moment(m.time)}, over {m.channel} to {m.to.join(", ")}
            {m.test && ", a test"}
            {whole.data.html !== "" && ", with HTML"}
          </p>
          <pre>
            <Prose text={whole.data.text} />
          </pre>
          <h3>Attempts</h3>
          {whole.data.tries.length === 0 ? (
            <p className="small second">None yet.</p>
          ) : (
            <ol>
              {whole.data.tries.map((t, i) => (
                <li key={i}>
                  <Icon name={t.ok ? "check" : "close"} />
                  <span>
                    {moment(t.time)} {t.to}: <Prose text={t.result} />{" "}
                    <span className="small second">{t.took_ms} ms</span>
                  </span>
                </li>
              ))}
            </ol>
          )}
        </div>
      )}
    </Modal>
  );
}
