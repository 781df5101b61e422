import { App, Button, Modal, Select } from "antd";
import { useState } from "react";
import { api, unwrap, type Description } from "../../api/client";
import { useChange } from "../../api/changes";
import { factNames } from "../../components/format";
import { Icon } from "../../components/icons";
import { Prose } from "../../components/parts";

/** how much of a file is sent to be described, in bytes. */
const beginning = 900_000;

/** facts are what a column may be for. */
const facts = [
  ...["range", "first", "last"],
  ...Object.keys(factNames).filter((fact) => fact !== "continent_code"),
];

/** DescribeModal looks at a file, maps its columns, and gives the lines that make it a source. */
export function DescribeModal({ onClose }: { onClose: () => void }) {
  const { message } = App.useApp();
  const [name, setName] = useState("");
  const [description, setDescription] = useState<Description | null>(null);
  const [mapping, setMapping] = useState<Record<string, string>>({});
  const look = useChange({
    call: (file: File) =>
      unwrap(
        api.POST("/v1/atlas/describe", {
          body: file.slice(0, beginning) as unknown as string,
          bodySerializer: (body) => body as unknown as Blob,
          headers: { "Content-Type": "application/octet-stream" },
        }),
      ),
    done: (d) => {
      setDescription(d);
      setMapping(Object.fromEntries(d.columns.map((c) => [c.name, c.fact])));
    },
    quiet: true,
  });
  const choose = (file: File) => {
    setName(file.name);
    setDescription(null);
    look.change(file);
  };
  const isTable = description !== null && ["csv", "tsv", "jsonl", "parquet"].includes(description.format);
  const lines = description ? linesFor(name, description, isTable ? mapping : {}) : "";
  return (
    <Modal open title="Add a source" width={820} footer={null} onCancel={onClose}>
      <p className="second">
        Choose a file of range data: a geofeed, a registry’s statistics, or a table. Its beginning is looked
        at; nothing is loaded.
      </p>
      <label className="filebutton filebox">
        <input
          type="file"
          className="unseen"
          aria-label="File of range data"
          onChange={(e) => {
            const file = e.target.files?.[0];
            if (file) choose(file);
          }}
        />
        <span>{name || "Choose a file"}</span>
      </label>
      {look.failed && (
        <p className="signin-failed" role="alert">
          {look.failed}
        </p>
      )}
      {description && (
        <>
          <p>
            It looks like <b>{description.format}</b>: {description.reason}.
          </p>
          <div className="scroll describe-scroll">
            <table className="evidence atlas-table">
              <thead>
                <tr>
                  <th scope="col">Column</th>
                  <th scope="col">Holds</th>
                  <th scope="col" className="right">
                    Filled
                  </th>
                  <th scope="col">Such as</th>
                  {isTable && <th scope="col">Is our</th>}
                </tr>
              </thead>
              <tbody>
                {description.columns.map((c) => (
                  <tr key={c.name}>
                    <td>
                      <b>{c.name}</b>
                    </td>
                    <td className="nowrap">{c.type}</td>
                    <td className="right">{Math.round(c.filled * 100)} %</td>
                    <td className="small breakable">
                      <Prose text={c.values.join(", ")} />
                    </td>
                    {isTable && (
                      <td>
                        <Select
                          size="small"
                          className="factselect"
                          aria-label={`What ${c.name} is`}
                          value={mapping[c.name] ?? ""}
                          options={[
                            { value: "", label: "not used" },
                            ...facts.map((f) => ({ value: f, label: f })),
                          ]}
                          onChange={(fact: string) => setMapping({ ...mapping, [c.name]: fact })}
                        />
                      </td>
                    )}
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          {description.advice.map((line) => (
            <p key={line} className="small">
              {line}
            </p>
          ))}
          <div className="lines">
            <b>Add to the configuration, under atlas.sources</b>
            <pre className="mono">{lines}</pre>
            <Button
              icon={<Icon name="copy" />}
              onClick={() => void navigator.clipboard.writeText(lines).then(() => message.success("Copied."))}
            >
              Copy the lines
            </Button>
          </div>
        </>
      )}
    </Modal>
  );
}

/** linesFor writes the configuration of a source. */
export function linesFor(name: string, d: Description, mapping: Record<string, string>): string {
  const columns = Object.entries(mapping)
    .filter(([column, fact]) => fact && column !== fact)
    .map(([column, fact]) => `${fact}: ${JSON.stringify(column)}`);
  return [
    `- name: ${JSON.stringify(name)}`,
    `  file: ${JSON.stringify(name)}`,
    `  format: ${d.format}`,
    "  rank: 3",
    ...(d.format === "list" ? ["  label: my label"] : []),
    ...(columns.length > 0 ? [`  columns: { ${columns.join(", ")} }`] : []),
  ].join("\n");
}
