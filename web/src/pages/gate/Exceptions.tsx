import { App, Button, Select } from "antd";
import { useState } from "react";
import { api, unwrap, type GateRules, type GateState } from "../../api/client";
import { useAction } from "../../api/changes";
import { Icon } from "../../components/icons";
import { LabelChip } from "../../components/parts";
import { without } from "./rules";

/** Exceptions are whom nothing locks out, with the owner's pass. */
export function Exceptions(props: {
  state: GateState;
  rules: GateRules;
  onChange: (rules: GateRules) => void;
}) {
  const [open, setOpen] = useState(false);
  const { modal } = App.useApp();
  const { labels = [], paths = [] } = props.rules.exceptions;
  const put = (part: GateRules["exceptions"]) =>
    props.onChange({ ...props.rules, exceptions: without({ ...props.rules.exceptions, ...part }) });
  const pass = useAction({
    call: () => unwrap(api.POST("/v1/gate/passes", { params: { query: { site: props.state.site } } })),
    done: ({ url }) =>
      void modal.info({
        title: "An owner’s pass",
        width: 560,
        content: (
          <>
            <p>
              The browser that opens this address, once and within ten minutes, passes every gate of{" "}
              {props.state.site} until this session ends.
            </p>
            <p className="breakable addr">
              <a href={url} target="_blank" rel="noreferrer">
                {url}
              </a>
            </p>
          </>
        ),
      }),
  });
  return (
    <section className="gate-exceptions" aria-label="Exceptions">
      <div className="gate-exceptions-row">
        <span className="small second">Always admitted</span>
        <span className="chips">
          {labels.map((l) => (
            <LabelChip key={l} label={l} />
          ))}
          {paths.map((p) => (
            <span key={p} className="chip code">
              {p}
            </span>
          ))}
          <span className="small second">browsers with an owner’s pass</span>
        </span>
        <button type="button" className="textlink" onClick={() => setOpen(!open)} aria-expanded={open}>
          {open ? "Close" : "Change"}
        </button>
        <Button size="small" icon={<Icon name="door" />} loading={pass.busy} onClick={() => pass.change()}>
          Make a pass
        </Button>
      </div>
      {open && (
        <div className="gate-editor">
          <span>Labels</span>
          <Select
            mode="multiple"
            aria-label="Labels that are always admitted"
            value={labels}
            options={props.state.labels.map((v) => ({ value: v, label: v }))}
            onChange={(list: string[]) => put({ labels: list })}
          />
          <span>Exact paths</span>
          <Select
            mode="tags"
            open={false}
            suffixIcon={null}
            aria-label="Paths that are always admitted"
            placeholder="/healthz"
            value={paths}
            onChange={(list: string[]) => put({ paths: list })}
          />
        </div>
      )}
    </section>
  );
}
