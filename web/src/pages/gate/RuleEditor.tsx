import { Button, DatePicker, Segmented, Select } from "antd";
import dayjs from "dayjs";
import { useState } from "react";
import type { Gate, GateRule, GateState } from "../../api/client";
import { useCountryChoices } from "../../api/queries";
import { bases } from "../../components/format";
import { Flag } from "../../components/parts";
import { absences, absenceKeys } from "../../features/gate/outcome";
import { CountryPicker } from "./CountryPicker";
import { outcomeOf, places, without } from "./rules";

const clock = "YYYY-MM-DDTHH:mm";
const zones = Intl.supportedValuesOf("timeZone");

/** RuleEditor changes a rule in its place. */
export function RuleEditor(props: {
  rule: GateRule;
  list: Gate["list"];
  state: GateState;
  siteZone: string;
  onChange: (rule: GateRule) => void;
  onRemove: () => void;
}) {
  const { rule, state } = props;
  const [picking, setPicking] = useState(false);
  const countries = useCountryChoices().data?.countries ?? [];
  const put = (part: Partial<GateRule>) => props.onChange(without({ ...rule, ...part }));
  const plain = (list: string[]) => list.map((v) => ({ value: v, label: v }));
  const timed = (key: "from" | "until") => (
    <DatePicker
      showTime={{ format: "HH:mm" }}
      format="ddd D MMM YYYY, HH:mm"
      needConfirm={false}
      aria-label={key === "from" ? "From when" : "Until when"}
      placeholder={key === "from" ? "any time" : "no end"}
      value={rule[key] ? dayjs(rule[key]) : null}
      onChange={(at: dayjs.Dayjs | null) =>
        put({
          [key]: at ? at.format(clock) : "",
          time_zone: at || rule[key === "from" ? "until" : "from"] ? (rule.time_zone ?? props.siteZone) : "",
        })
      }
    />
  );
  const kinds: [keyof GateRule, string, string[]][] = [
    ["groups", "Groups", state.groups],
    ["areas", "Areas", state.areas],
    ["labels", "Labels", state.labels],
    ["kinds", "Kinds of address", state.kinds],
  ];
  return (
    <div className="gate-editor">
      <span>Do</span>
      <Segmented
        aria-label="What the rule does"
        value={outcomeOf(rule, props.list)}
        options={[
          { value: "admit", label: "Admit" },
          { value: "refuse", label: "Refuse" },
        ]}
        onChange={(word) => {
          const usual = (word === "admit") === (props.list === "allow");
          put({ do: usual ? undefined : (word as "admit" | "refuse") } as Partial<GateRule>);
        }}
      />
      <span>From</span>
      <div className="gate-from">
        <Select
          mode="multiple"
          aria-label="Countries"
          placeholder="countries"
          value={rule.countries ?? []}
          optionFilterProp="label"
          options={countries.map((c) => ({ value: c.country_code, label: `${c.name} ${c.country_code}` }))}
          optionRender={(o) => (
            <span className="country">
              <Flag code={String(o.value)} />
              {o.label}
            </span>
          )}
          onChange={(list: string[]) => put({ countries: list })}
        />
        <Button size="small" onClick={() => setPicking(true)}>
          Pick on the map
        </Button>
        {kinds
          .filter(([key, , options]) => options.length > 0 || ((rule[key] as string[]) ?? []).length > 0)
          .map(([key, label, options]) => (
            <Select
              key={key}
              mode="multiple"
              aria-label={label}
              placeholder={label.toLowerCase()}
              value={(rule[key] as string[] | undefined) ?? []}
              options={plain(options)}
              onChange={(list: string[]) => put({ [key]: list })}
            />
          ))}
        <Select
          mode="tags"
          aria-label="Regions"
          placeholder="regions, such as PT-11"
          value={rule.regions ?? []}
          open={false}
          suffixIcon={null}
          onChange={(list: string[]) => put({ regions: list })}
        />
        <Select
          mode="tags"
          aria-label="Networks"
          placeholder="networks: 198.18.3.0/24 or AS64500"
          value={rule.networks ?? []}
          open={false}
          suffixIcon={null}
          onChange={(list: string[]) => put({ networks: list })}
        />
      </div>
      <span>When</span>
      <div className="gate-when">
        {timed("from")}
        <span className="second">to</span>
        {timed("until")}
        {rule.time_zone && (
          <Select
            showSearch
            aria-label="Time zone"
            value={rule.time_zone}
            options={plain(zones)}
            onChange={(zone: string) => put({ time_zone: zone })}
          />
        )}
      </div>
      {places(rule) && (
        <>
          <span>If unknown</span>
          <div className="gate-missing">
            {absenceKeys.map((key) => (
              <label key={key}>
                <span className="small second">{absences[key]}</span>
                <Segmented
                  size="small"
                  aria-label={absences[key]}
                  value={rule.missing?.[key] ?? "next"}
                  options={[
                    { value: "admit", label: "Admit" },
                    { value: "next", label: "Next rule" },
                    { value: "refuse", label: "Refuse" },
                  ]}
                  onChange={(does) =>
                    put({
                      missing: without({
                        ...rule.missing,
                        [key]: does === "next" ? undefined : does,
                      }) as Record<string, "admit" | "refuse" | "next">,
                    })
                  }
                />
              </label>
            ))}
          </div>
          <span>Rests on</span>
          <Select
            aria-label="What the country must rest on"
            value={rule.basis ?? ""}
            options={[
              { value: "", label: "anything" },
              ...bases.map((b) => ({ value: b, label: `a ${b} or better` })),
            ]}
            onChange={(basis: string) => put({ basis })}
          />
        </>
      )}
      <span />
      <button type="button" className="textlink bad" onClick={props.onRemove}>
        Remove this rule
      </button>
      {picking && (
        <CountryPicker
          chosen={rule.countries ?? []}
          onDone={(list) => {
            put({ countries: list });
            setPicking(false);
          }}
          onClose={() => setPicking(false)}
        />
      )}
    </div>
  );
}
