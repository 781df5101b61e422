import { Checkbox, Modal } from "antd";
import { useState } from "react";
import { api, unwrap, type Key, type Made } from "../../api/client";
import { useAction } from "../../api/changes";
import { useMade } from "../../api/queries";
import { clockTime } from "../../components/format";
import { Bars, Failed } from "../../components/states";

/** RevokeForm ends a key, after it has shown what was made with it and ends too, or may. */
export function RevokeForm({ item: k, onClose }: { item: Key; onClose: () => void }) {
  const made = useMade(k.id);
  const [withMade, setWithMade] = useState(false);
  const revoke = useAction<{ revoked: string[] }>({
    call: () =>
      unwrap(
        api.DELETE("/v1/keys/{id}", {
          params: { path: { id: k.id }, query: { made: withMade ? "revoke" : "keep" } },
        }),
      ),
    stale: ["keys", "sessions"],
    done: (ended) => {
      const others = ended.revoked.length - 1;
      return others > 0 ? `“${k.name}” and ${others} made with it are revoked.` : `“${k.name}” is revoked.`;
    },
  });
  const revokeAndClose = () => {
    revoke.change();
    onClose();
  };
  return (
    <Modal
      open
      title={`Revoke “${k.name}”?`}
      okText="Revoke it"
      okButtonProps={{ danger: true }}
      cancelText="Keep it"
      onOk={() => revokeAndClose()}
      onCancel={onClose}
    >
      <p>Requests with it are refused from now on. This cannot be undone.</p>
      {made.isPending ? (
        <Bars label="Keys created with it are loading" rows={1} />
      ) : made.isError ? (
        <Failed
          what="Keys created with it could not be loaded."
          error={made.error}
          retry={() => void made.refetch()}
        />
      ) : (
        <MadeList made={made.data} withMade={withMade} onChange={setWithMade} />
      )}
    </Modal>
  );
}

function MadeList(props: { made: Made; withMade: boolean; onChange: (withMade: boolean) => void }) {
  const { keys, sessions } = props.made;
  return (
    <>
      {sessions.length > 0 && (
        <p>
          {sessions.length === 1 ? "One session that it opened ends" : `${sessions.length} sessions end`} with
          it.
        </p>
      )}
      {keys.length > 0 && (
        <>
          <p>Keys created with it stay active:</p>
          <ul className="made-keys">
            {keys.map((one) => (
              <li key={one.id}>
                <b>{one.name}</b> <span className="chip kind">{one.scope}</span>{" "}
                <span className="small second">
                  {clockTime(one.created)}, {one.made_by.name}
                </span>
              </li>
            ))}
          </ul>
          <Checkbox checked={props.withMade} onChange={(e) => props.onChange(e.target.checked)}>
            Revoke them too
          </Checkbox>
        </>
      )}
    </>
  );
}
