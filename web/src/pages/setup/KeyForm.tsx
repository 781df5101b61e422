import { App, Button, Input, Modal, Radio, Select } from "antd";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { accomplish, api, Refusal, unwrap, type Key, type NewKey } from "../../api/client";
import { Icon } from "../../components/icons";
import { useSite } from "../../components/site";

const scopes: { value: NewKey["scope"]; words: string }[] = [
  { value: "page", words: "page: visible in the page’s source" },
  { value: "server", words: "server: reports and looks up for others" },
  { value: "admin", words: "admin: everything" },
];

const words = (error: unknown) =>
  error instanceof Refusal ? `${error.problem.detail} ${error.problem.hint}` : String(error);

/** KeyForm makes a key and shows its secret, this once. */
export function KeyForm({ onClose }: { onClose: () => void }) {
  const { message } = App.useApp();
  const queries = useQueryClient();
  const { sites, site } = useSite();
  const [draft, setDraft] = useState<Required<NewKey>>({
    name: "",
    scope: "page",
    sites: site ? [site.host] : [],
    origins: [],
  });
  const [failed, setFailed] = useState("");
  const [secret, setSecret] = useState("");
  const make = async () => {
    try {
      const page = draft.scope === "page";
      const body = { ...draft, origins: page ? draft.origins : [], sites: page ? draft.sites : [] };
      const made = await unwrap(api.POST("/v1/keys", { body }));
      setSecret(made.secret);
      await queries.invalidateQueries({ queryKey: ["keys"] });
    } catch (error) {
      setFailed(words(error));
    }
  };
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
    <Modal open title="Create key" okText="Create" onOk={() => void make()} onCancel={onClose}>
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
        {failed && (
          <p className="signin-failed" role="alert">
            {failed}
          </p>
        )}
      </div>
    </Modal>
  );
}

export function RenameForm({ item, onClose }: { item: Key; onClose: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState(item.name);
  const [failed, setFailed] = useState("");
  const rename = async () => {
    try {
      await accomplish(api.PATCH("/v1/keys/{id}", { params: { path: { id: item.id } }, body: { name } }));
      await queries.invalidateQueries({ queryKey: ["keys"] });
      onClose();
    } catch (error) {
      setFailed(words(error));
    }
  };
  return (
    <Modal open title="Rename the key" okText="Rename it" onOk={() => void rename()} onCancel={onClose}>
      <div className="keyform">
        <label>
          Name
          <Input
            value={name}
            maxLength={80}
            onChange={(e) => setName(e.target.value)}
            onPressEnter={() => void rename()}
          />
        </label>
        {failed && (
          <p className="signin-failed" role="alert">
            {failed}
          </p>
        )}
      </div>
    </Modal>
  );
}
