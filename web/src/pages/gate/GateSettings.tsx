import { Input, Segmented, Select } from "antd";
import type { Gate, GateState } from "../../api/client";
import { absences, absenceKeys } from "../../features/gate/outcome";
import { without } from "./rules";

/** GateSettings are what a gate is beside its rules: where it stands, its list, the missing, and what the refused read. */
export function GateSettings(props: {
  gate: Gate;
  state: GateState;
  onChange: (gate: Gate) => void;
  onRemove: () => void;
}) {
  const { gate } = props;
  const refusal = gate.refusal ?? {};
  const put = (part: Partial<Gate>) => props.onChange({ ...gate, ...part });
  const putRefusal = (part: Partial<NonNullable<Gate["refusal"]>>) => {
    props.onChange(without({ ...gate, rules: gate.rules, refusal: without({ ...refusal, ...part }) }));
  };
  const texts = refusal.texts ?? {};
  const languages = [
    ...new Set([...(props.state.languages.length ? props.state.languages : ["en"]), ...Object.keys(texts)]),
  ];
  return (
    <div className="gate-editor">
      <span>Name</span>
      <Input
        aria-label="Name of the gate"
        maxLength={60}
        value={gate.name}
        onChange={(e) => put({ name: e.target.value })}
      />
      <span>Path</span>
      <Input
        aria-label="Path"
        className="mono"
        value={gate.path}
        placeholder="/early/**"
        onChange={(e) => put({ path: e.target.value })}
      />
      <span>List</span>
      <Segmented
        aria-label="Kind of list"
        value={gate.list}
        options={[
          { value: "allow", label: "Allow list: everybody else is refused" },
          { value: "deny", label: "Deny list: everybody else is admitted" },
        ]}
        onChange={(list) => put({ list: list as Gate["list"] })}
      />
      <span>Without a location</span>
      <div className="gate-missing">
        {absenceKeys.map((key) => (
          <label key={key}>
            <span className="small second">{absences[key]}</span>
            <Segmented
              size="small"
              aria-label={absences[key]}
              value={gate.missing[key]}
              options={[
                { value: "admit", label: "Admit" },
                { value: "refuse", label: "Refuse" },
              ]}
              onChange={(does) => put({ missing: { ...gate.missing, [key]: does as "admit" | "refuse" } })}
            />
          </label>
        ))}
      </div>
      <span>Refused with</span>
      <Select
        aria-label="Status"
        value={refusal.status ?? 403}
        options={[
          { value: 403, label: "403 Forbidden" },
          { value: 451, label: "451 Unavailable for legal reasons" },
          { value: 404, label: "404 Not found" },
        ]}
        onChange={(status: number) => putRefusal({ status })}
      />
      <span>They read</span>
      <div className="gate-texts">
        {languages.map((tag) => (
          <Input.TextArea
            key={tag}
            lang={tag}
            aria-label={`Text in ${tag}`}
            placeholder={`${tag}: This page is not open where you are.`}
            autoSize
            maxLength={500}
            value={texts[tag] ?? ""}
            onChange={(e) =>
              putRefusal({ texts: without({ ...texts, [tag]: e.target.value.replaceAll("\n", " ") }) })
            }
          />
        ))}
      </div>
      <span>Contact</span>
      <Input
        aria-label="Contact"
        value={refusal.contact ?? ""}
        placeholder="an e-mail address or a URL"
        onChange={(e) => putRefusal({ contact: e.target.value.trim() })}
      />
      <span>Open to all</span>
      <Input
        aria-label="A path that is open to all"
        className="mono"
        value={refusal.elsewhere ?? ""}
        placeholder="/programme"
        onChange={(e) => putRefusal({ elsewhere: e.target.value.trim() })}
      />
      <span />
      <button type="button" className="textlink bad" onClick={props.onRemove}>
        Remove this gate
      </button>
    </div>
  );
}
