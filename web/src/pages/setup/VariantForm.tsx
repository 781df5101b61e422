import { Button, Input, Modal, Select } from "antd";
import { useState } from "react";
import { accomplish, api, type Variants, type VariantSet } from "../../api/client";
import { useAction } from "../../api/changes";
import { useCompanions } from "../../api/companions";
import { useCountryChoices } from "../../api/queries";
import { bases } from "../../components/format";
import { Icon } from "../../components/icons";
import { withBasis, withList, type ListKind, type When } from "./variants";

/** VariantForm makes or changes a set of content variants. */
export function VariantForm(props: { site: Variants; set: VariantSet; fresh: boolean; onClose: () => void }) {
  const { name, default: fallback, rules } = props.set;
  const [draft, setDraft] = useState<VariantSet>({ name, default: fallback, rules });
  const save = useAction({
    call: () =>
      accomplish(
        api.PUT("/v1/variants/{name}", {
          params: { path: { name: draft.name }, query: { site: props.site.site } },
          body: draft,
        }),
      ),
    stale: ["variants"],
    done: props.onClose,
    quiet: true,
  });
  const setRule = (i: number, rule: VariantSet["rules"][number]) =>
    setDraft({ ...draft, rules: draft.rules.map((r, n) => (n === i ? rule : r)) });
  return (
    <Modal
      open
      width={640}
      title={props.fresh ? "New set of variants" : `Variants of “${draft.name}”`}
      okText="Save and use"
      onOk={() => save.change()}
      onCancel={props.onClose}
    >
      <div className="keyform">
        {props.fresh && (
          <label>
            What it is of
            <Input
              value={draft.name}
              maxLength={40}
              placeholder="pictures"
              onChange={(e) => setDraft({ ...draft, name: e.target.value })}
            />
          </label>
        )}
        {draft.rules.map((rule, i) => (
          <fieldset key={i} className="local-rule">
            <legend>Rule {i + 1}; the first that fits decides</legend>
            <label>
              Variant
              <Input
                value={rule.variant}
                maxLength={40}
                onChange={(e) => setRule(i, { ...rule, variant: e.target.value })}
              />
            </label>
            <Conditions
              site={props.site}
              when={rule.when}
              onChange={(when) => setRule(i, { ...rule, when })}
            />
            <button
              type="button"
              className="textlink bad"
              onClick={() => setDraft({ ...draft, rules: draft.rules.filter((_, n) => n !== i) })}
            >
              Remove this rule
            </button>
          </fieldset>
        ))}
        <Button
          icon={<Icon name="plus" />}
          onClick={() => setDraft({ ...draft, rules: [...draft.rules, { variant: "", when: {} }] })}
        >
          Add a rule
        </Button>
        <label>
          Everyone else
          <Input
            value={draft.default}
            maxLength={40}
            placeholder="lake"
            onChange={(e) => setDraft({ ...draft, default: e.target.value })}
          />
        </label>
        {save.failed && (
          <p className="signin-failed" role="alert">
            {save.failed}
          </p>
        )}
      </div>
    </Modal>
  );
}

function Conditions(props: { site: Variants; when: When; onChange: (when: When) => void }) {
  const countries = useCountryChoices();
  const companions = useCompanions(props.site.site).data?.companions ?? [];
  const categories = companions.flatMap((c) =>
    [...new Set([...c.said.categories.map((one) => one.name), c.said.default])]
      .filter(Boolean)
      .map((one) => `${c.name}.${one}`),
  );
  const plain = (list: string[]) => list.map((v) => ({ value: v, label: v }));
  const kinds: [ListKind, string, { value: string; label: string }[]][] = [
    [
      "countries",
      "Countries",
      (countries.data?.countries ?? []).map((c) => ({
        value: c.country_code,
        label: `${c.name} ${c.country_code}`,
      })),
    ],
    ["groups", "Groups of countries", plain(props.site.groups)],
    ["languages", "Languages", plain(props.site.languages)],
    ["areas", "Areas", plain(props.site.areas)],
    ["labels", "Labels", plain(props.site.labels)],
    ["categories", "Categories of companions", plain(categories)],
  ];
  return (
    <div className="local-conditions">
      {kinds
        .filter(([kind, , options]) => options.length > 0 || kind === "languages")
        .map(([kind, label, options]) => (
          <label key={kind}>
            {label}
            <Select
              mode={kind === "languages" ? "tags" : "multiple"}
              aria-label={label}
              value={props.when[kind] ?? []}
              options={options}
              optionFilterProp="label"
              placeholder="any"
              onChange={(list: string[]) => props.onChange(withList(props.when, kind, list))}
            />
          </label>
        ))}
      <label>
        The country rests on
        <Select
          aria-label="The country rests on"
          value={props.when.basis ?? ""}
          options={[
            { value: "" as const, label: "anything" },
            ...bases.slice(0, -1).map((b) => ({ value: b, label: `a ${b} or better` })),
          ]}
          onChange={(basis: When["basis"] | "") => props.onChange(withBasis(props.when, basis))}
        />
      </label>
    </div>
  );
}
