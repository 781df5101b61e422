import { App, Button, Input, InputNumber, Modal, Segmented, Select } from "antd";
import { useState, type ReactNode } from "react";
import { accomplish, api, unwrap } from "../../api/client";
import { useAction } from "../../api/changes";
import type { Channel, ChannelSaid } from "../../api/notices";
import { Icon } from "../../components/icons";
import { Prose } from "../../components/parts";
import { usePreferences } from "../../components/preferences";
import { freshChannel } from "./words";

/** ChannelForm makes a channel, or changes it. Its secret is entered once and never shown. */
export function ChannelForm(props: {
  host: string;
  channel: Channel | undefined;
  inside: boolean;
  taken: string[];
  onClose: () => void;
}) {
  const there = props.channel;
  const { presenting } = usePreferences();
  const [said, setSaid] = useState<ChannelSaid>(there?.said ?? freshChannel("mail"));
  const [name, setName] = useState(there?.name ?? (props.taken.includes("mail") ? "" : "mail"));
  const [secret, setSecret] = useState("");
  const set = (part: Partial<ChannelSaid>) => setSaid({ ...said, ...part });
  const isMail = said.kind === "mail";
  const save = useAction({
    call: () =>
      unwrap(
        api.PUT("/v1/channels/{name}", {
          params: { path: { name }, query: { site: props.host } },
          body: { said, revision: there?.revision ?? 0, ...(secret ? { new_secret: secret } : {}) },
        }),
      ),
    stale: ["notices", "checkup", "messages"],
    quiet: true,
    done: () => {
      props.onClose();
      return "Saved. Send a test to see whether it arrives.";
    },
  });
  return (
    <Modal
      open
      title={there ? `Channel ${there.name}` : "New channel"}
      okText="Save"
      okButtonProps={{ loading: save.busy, disabled: presenting || name === "" }}
      onOk={save.change}
      onCancel={props.onClose}
      footer={(_, { OkBtn, CancelBtn }) => (
        <div className="channel-foot">
          {there && <DropChannel channel={there} host={props.host} onDone={props.onClose} />}
          <span>
            <CancelBtn />
            <OkBtn />
          </span>
        </div>
      )}
    >
      <form className="channel-form" autoComplete="off" onSubmit={(e) => e.preventDefault()}>
        {!there && (
          <Segmented
            aria-label="Kind"
            value={said.kind}
            onChange={(kind: "mail" | "webhook") => {
              setSaid(freshChannel(kind));
              setSecret("");
              setName(props.taken.includes(kind) ? "" : kind);
            }}
            options={[
              { value: "mail", label: "Mail server" },
              { value: "webhook", label: "Webhook" },
            ]}
          />
        )}
        {!there && (
          <Field label="Name">
            <Input
              className="mono"
              maxLength={40}
              value={name}
              onChange={(e) => setName(e.target.value.toLowerCase().replace(/[^a-z0-9-]/g, "-"))}
            />
          </Field>
        )}
        {isMail ? (
          <>
            <Field label="Server and port">
              <Input
                placeholder="smtp.heronlake.example:587"
                value={said.server}
                onChange={(e) => set({ server: e.target.value })}
              />
            </Field>
            <Field label="Security">
              <Select
                value={said.security ?? "starttls"}
                options={[
                  { value: "starttls", label: "STARTTLS (often port 587)" },
                  { value: "tls", label: "TLS from the beginning (often 465)" },
                  { value: "none", label: "none" },
                ]}
                onChange={(security) => set({ security })}
              />
            </Field>
            <Field label="Sender">
              <Input
                placeholder="Heron Lake Regatta <porch@heronlake.example>"
                value={said.from}
                onChange={(e) => set({ from: e.target.value })}
              />
            </Field>
            <Field label="Login, if it wants one">
              <Input autoComplete="off" value={said.login} onChange={(e) => set({ login: e.target.value })} />
            </Field>
            {said.login !== "" && (
              <Secret label="Password" channel={there} said={said} value={secret} onChange={setSecret} />
            )}
            <div className="channel-limits">
              <Field label="Mails a day, at most">
                <InputNumber
                  min={1}
                  max={100_000}
                  value={said.a_day ?? 200}
                  onChange={(n) => set({ a_day: n ?? 200 })}
                />
              </Field>
              <Field label="To one recipient an hour">
                <InputNumber
                  min={1}
                  max={1000}
                  value={said.recipient_an_hour ?? 5}
                  onChange={(n) => set({ recipient_an_hour: n ?? 5 })}
                />
              </Field>
            </div>
          </>
        ) : (
          <>
            <Field label="Address">
              <Input
                placeholder="https://hooks.crew.example/porch"
                value={said.url}
                onChange={(e) => set({ url: e.target.value })}
              />
            </Field>
            <Secret
              label="Key that messages are signed with"
              channel={there}
              said={said}
              value={secret}
              onChange={setSecret}
              canMake
            />
          </>
        )}
        {!props.inside && (
          <p className="small second">
            Only public addresses are reached. <code>notices.send_inside</code> in the configuration allows
            others.
          </p>
        )}
        {save.failed && (
          <p className="bad small" role="alert">
            <Prose text={save.failed} />
          </p>
        )}
      </form>
    </Modal>
  );
}

function Field({ label, children }: { label: string; children: ReactNode }) {
  return (
    <label className="dialog-field">
      {label}
      {children}
    </label>
  );
}

/** Secret takes a new password or key; one that there is stays where nothing is entered. */
function Secret(props: {
  label: string;
  channel: Channel | undefined;
  said: ChannelSaid;
  value: string;
  onChange: (secret: string) => void;
  canMake?: boolean;
}) {
  const kept = props.channel?.secret_ready && props.said.secret;
  return (
    <div className="dialog-field">
      <label htmlFor="channel-secret">{props.label}</label>
      <span className="channel-secret">
        <Input.Password
          id="channel-secret"
          autoComplete="new-password"
          placeholder={kept ? "kept; enter another to replace it" : ""}
          value={props.value}
          onChange={(e) => props.onChange(e.target.value)}
        />
        {props.canMake && <Button onClick={() => props.onChange(randomKey())}>Make one</Button>}
      </span>
      <span className="small second">
        <Icon name="lock" /> Entered once: it is kept in the directory of secrets and never shown again.
        {props.canMake && " Copy it to the receiver before you save."}
      </span>
    </div>
  );
}

function randomKey(): string {
  const bytes = crypto.getRandomValues(new Uint8Array(32));
  return Array.from(bytes, (b) => b.toString(16).padStart(2, "0")).join("");
}

function DropChannel({ channel, host, onDone }: { channel: Channel; host: string; onDone: () => void }) {
  const { modal } = App.useApp();
  const drop = useAction({
    call: () =>
      accomplish(
        api.DELETE("/v1/channels/{name}", {
          params: { path: { name: channel.name }, query: { site: host } },
        }),
      ),
    stale: ["notices", "checkup", "messages"],
    done: () => {
      onDone();
      return `${channel.name} is gone.`;
    },
  });
  return (
    <Button
      type="text"
      danger
      loading={drop.busy}
      onClick={() =>
        void modal.confirm({
          title: `Drop the channel ${channel.name}?`,
          content: "What waits for it is dropped too.",
          okText: "Drop",
          onOk: drop.change,
        })
      }
    >
      Drop
    </Button>
  );
}
