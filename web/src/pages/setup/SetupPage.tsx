import "./setup.css";
import "./local.css";
import { Heads } from "../../components/Heads";
import { Button } from "antd";
import dayjs from "dayjs";
import { useState } from "react";
import { accomplish, api, type Key } from "../../api/client";
import { useAction, useChange } from "../../api/changes";
import { useAudit, useKeyList, useSessions } from "../../api/queries";
import { clockTime } from "../../components/format";
import { Icon } from "../../components/icons";
import { Prose } from "../../components/parts";
import { Bars, Empty, Failed } from "../../components/states";
import { CheckupPanel } from "./CheckupPanel";
import { KeyForm, RenameForm } from "./KeyForm";
import { RevokeForm } from "./RevokeForm";
import { LocalPanel } from "./LocalPanel";
import { RefusedPanel } from "./RefusedPanel";
import { SnippetsPanel } from "./SnippetsPanel";

/** SetupPage says who may ask what: keys, sessions and the audit log. */
export function SetupPage() {
  const keys = useKeyList();
  const [making, setMaking] = useState(false);
  const [foot, setFoot] = useState<"sessions" | "audit" | null>(null);
  const list = keys.data?.keys ?? [];
  const inForce = list.filter((k) => !k.revoked);
  const revoked = list.length - inForce.length;
  return (
    <div className="setup">
      <CheckupPanel />
      <RefusedPanel />
      <SnippetsPanel />
      <LocalPanel />
      <section className="panel" aria-labelledby="keys-title">
        <div className="panel-head keys-head">
          <h2 className="panel-title" id="keys-title">
            Keys
          </h2>
          <span className="small second">
            page: record a visit, read one’s own card · server: report and look up for others · admin:
            everything
          </span>
          <Button icon={<Icon name="plus" />} onClick={() => setMaking(true)}>
            Create key
          </Button>
        </div>
        {keys.isPending ? (
          <Bars label="Keys are loading" />
        ) : keys.isError ? (
          <Failed what="The keys could not be loaded." error={keys.error} retry={() => void keys.refetch()} />
        ) : inForce.length === 0 ? (
          <Empty title="No active keys" text="Pages and servers need a key to use the API." />
        ) : (
          <div className="scroll">
            <table className="evidence keys-table">
              <thead>
                <tr>
                  <th scope="col">Name</th>
                  <th scope="col">Begins with</th>
                  <th scope="col">Scope</th>
                  <th scope="col">Allowed origins</th>
                  <th scope="col" className="right">
                    Last use
                  </th>
                  <th scope="col" className="right">
                    Uses
                  </th>
                  <th scope="col">
                    <span className="unseen">Actions</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {inForce.map((k) => (
                  <KeyRow key={k.id} item={k} />
                ))}
              </tbody>
            </table>
          </div>
        )}
        <p className="small second keys-foot">
          {revoked > 0 && <span>{revoked === 1 ? "One key is" : `${revoked} keys are`} revoked.</span>}
          <FootButton
            name="Sessions"
            open={foot === "sessions"}
            onClick={() => setFoot(foot === "sessions" ? null : "sessions")}
          />
          <FootButton
            name="Audit log"
            open={foot === "audit"}
            onClick={() => setFoot(foot === "audit" ? null : "audit")}
          />
          <SignOut />
        </p>
      </section>
      {foot === "sessions" && <Sessions />}
      {foot === "audit" && <Audit />}
      {making && <KeyForm onClose={() => setMaking(false)} />}
    </div>
  );
}

function FootButton({ name, open, onClick }: { name: string; open: boolean; onClick: () => void }) {
  return (
    <button type="button" className="textlink" aria-expanded={open} onClick={onClick}>
      {name}
    </button>
  );
}

function SignOut() {
  const { change: out } = useAction({
    call: () => accomplish(api.DELETE("/v1/sessions/{id}", { params: { path: { id: "current" } } })),
    done: () => window.location.assign("/sign-in"), // a new page, so that nothing of the session is left in this one
  });
  return (
    <button type="button" className="textlink" onClick={() => out()}>
      Sign out
    </button>
  );
}

const usedFrom = (k: Key) => {
  if (k.scope === "admin") return <span className="second">console and command line</span>;
  if (k.origins.length > 0) return <code className="small">{k.origins.join(", ")}</code>;
  return <span className="second">no browser origin</span>;
};

function KeyRow({ item: k }: { item: Key }) {
  const [renaming, setRenaming] = useState(false);
  const [revoking, setRevoking] = useState(false);
  return (
    <tr>
      <td>
        <b>{k.name}</b>
      </td>
      <td>
        <code>{k.start}…</code>
      </td>
      <td>
        <span className="chip kind">{k.scope}</span>
      </td>
      <td>
        {usedFrom(k)}
        {k.sites.length > 0 && <div className="small second">for {k.sites.join(", ")}</div>}
      </td>
      <td className="right nowrap">{k.last_used ? clockTime(k.last_used) : "never"}</td>
      <td className="right">{k.uses.toLocaleString("en")}</td>
      <td className="right nowrap">
        <button type="button" className="textlink plain" onClick={() => setRenaming(true)}>
          Rename
        </button>{" "}
        <button type="button" className="textlink bad" onClick={() => setRevoking(true)}>
          Revoke…
        </button>
        {renaming && <RenameForm item={k} onClose={() => setRenaming(false)} />}
        {revoking && <RevokeForm item={k} onClose={() => setRevoking(false)} />}
      </td>
    </tr>
  );
}

function Sessions() {
  const sessions = useSessions(true);
  const { change: end } = useChange({
    call: (id: string) => accomplish(api.DELETE("/v1/sessions/{id}", { params: { path: { id } } })),
    stale: ["sessions"],
  });
  return (
    <section className="panel" aria-label="Sessions">
      <div className="panel-head">
        <h2 className="panel-title">Sessions</h2>
      </div>
      {sessions.isPending ? (
        <Bars label="Sessions are loading" />
      ) : sessions.isError ? (
        <Failed
          what="The sessions could not be loaded."
          error={sessions.error}
          retry={() => void sessions.refetch()}
        />
      ) : (
        <div className="scroll">
          <table className="evidence">
            <thead>
              <tr>
                <th scope="col">Since</th>
                <th scope="col">By</th>
                <th scope="col">Browser</th>
                <th scope="col">Ends at the latest</th>
                <th scope="col">
                  <span className="unseen">Actions</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {sessions.data.sessions.map((s) => (
                <tr key={s.id}>
                  <td className="nowrap">{clockTime(s.created)}</td>
                  <td className="nowrap">{s.how}</td>
                  <td className="small second breakable">{s.user_agent}</td>
                  <td className="nowrap">{dayjs(s.expires).format("D MMM HH:mm")}</td>
                  <td className="right nowrap">
                    {s.id === sessions.data.current ? (
                      <span className="second">this browser</span>
                    ) : (
                      <button type="button" className="textlink bad" onClick={() => end(s.id)}>
                        End it
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}

function Audit() {
  const audit = useAudit(true);
  return (
    <section className="panel" aria-label="Audit log">
      <div className="panel-head">
        <h2 className="panel-title">Audit log</h2>
        <span className="small second">newest first, the last 100</span>
      </div>
      {audit.isPending ? (
        <Bars label="The audit log is loading" />
      ) : audit.isError ? (
        <Failed
          what="The audit log could not be loaded."
          error={audit.error}
          retry={() => void audit.refetch()}
        />
      ) : (
        <div className="scroll audit">
          <table className="evidence">
            <Heads of={["Time", "What", "By", "Detail"]} />
            <tbody>
              {audit.data.events.map((e) => (
                <tr key={e.id}>
                  <td className="nowrap">{clockTime(e.time)}</td>
                  <td className="nowrap">{e.what}</td>
                  <td className="nowrap">
                    <Prose text={e.actor} />
                  </td>
                  <td className="small second breakable">
                    <Prose text={e.detail} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
