import { App, Button, Input, Modal, Radio, Select } from "antd";
import { useState } from "react";
import { accomplish, api, unwrap, type Key, type NewKey } from "../../api/client";
import { useAction } from "../../api/changes";
import { Icon } from "../../components/icons";
import { useSite } from "../../components/site";

const scopes: { value: NewKey["scope"]; words: string }[] = [
  { value: "page", words: "page: visible in the page’s source" },
  { value: "server", words: "server: reports and looks up for others" },
  { value: "admin", words: "admin: everything" },
];

/** KeyForm makes a key and shows its secret, this once. */
export function KeyForm({ onClose }: { onClose: () => void }) {
  const { message } = App.useApp();
  const { sites, site } = useSite();
  const [draft, setDraft] = useState<Required<NewKey>>({
    name: "",
    scope: "page",
    sites: site ? [site.host] : [],
    origins: [],
  });
  const [secret, setSecret] = useState("");
  const make = useAction<{ secret: string }>({
    call: () => {
      const page = draft.scope === "page";
      const body = { ...draft, origins: page ? draft.origins : [], sites: page ? draft.sites : [] };
      return unwrap(api.POST("/v1/keys", { body }));
    },
    stale: ["keys"],
    done: (made) => setSecret(made.secret),
    quiet: true,
  });
  if (secret)
    return (
      <Modal
        open
        title={`“${draft.name}” is ready`}
        footer={<Button onClick={onClose}>I have saved it</Button>}
        onCancel={onClose}
      >
        <p>This is shown once. Only its checksum is kept here.</p>
        <div className="secret">
          <code className="breakable">{secret}</code>
          <Button
            icon={<Icon name="copy" />}
            onClick={() => void navigator.clipboard.writeText(secret).then(() => message.success("Copied."))}
          >
            Copy
          </Button>
        </div>
      </Modal>
    );
  return (
    <Modal open title="Create key" okText="Create" onOk={() => make.change()} onCancel={onClose}>
      <div className="keyform">
        <label>
          Name
          <Input
            value={draft.name}
            maxLength={80}
            placeholder="Regatta pages"
            onChange={(e) => setDraft({ ...draft, name: e.target.value })}
          />
        </label>
        <fieldset>
          <legend>Scope</legend>
          <Radio.Group
            vertical
            value={draft.scope}
            options={scopes.map((s) => ({ value: s.value, label: s.words }))}
            onChange={(e) => setDraft({ ...draft, scope: e.target.value as NewKey["scope"] })}
          />
        </fieldset>
        {draft.scope === "page" && (
          <>
            <label>
              Sites
              <Select
                mode="multiple"
                aria-label="Sites"
                value={draft.sites}
                options={sites.map((s) => ({ value: s.host, label: s.host }))}
                onChange={(value: string[]) => setDraft({ ...draft, sites: value })}
              />
            </label>
            <label>
              Origins of the pages
              <Select
                mode="tags"
                open={false}
                suffixIcon={null}
                aria-label="Origins of the pages"
                placeholder="https://heronlake.example"
                tokenSeparators={[" ", ","]}
                value={draft.origins}
                onChange={(value: string[]) => setDraft({ ...draft, origins: value })}
              />
            </label>
          </>
        )}
        {make.failed && (
          <p className="signin-failed" role="alert">
            {make.failed}
          </p>
        )}
      </div>
    </Modal>
  );
}

export function RenameForm({ item, onClose }: { item: Key; onClose: () => void }) {
  const [name, setName] = useState(item.name);
  const rename = useAction({
    call: () => accomplish(api.PATCH("/v1/keys/{id}", { params: { path: { id: item.id } }, body: { name } })),
    stale: ["keys"],
    done: onClose,
    quiet: true,
  });
  return (
    <Modal open title="Rename the key" okText="Rename it" onOk={() => rename.change()} onCancel={onClose}>
      <div className="keyform">
        <label>
          Name
          <Input
            value={name}
            maxLength={80}
            onChange={(e) => setName(e.target.value)}
            onPressEnter={() => rename.change()}
          />
        </label>
        {rename.failed && (
          <p className="signin-failed" role="alert">
            {rename.failed}
          </p>
        )}
      </div>
    </Modal>
  );
}
