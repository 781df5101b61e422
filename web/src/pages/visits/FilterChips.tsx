import { Button, Input, Popover, Select } from "antd";
import { useState } from "react";
import { useRoute } from "../../components/addressParam";
import { bases } from "../../components/format";
import { Icon } from "../../components/icons";
import { hasAddress, maskText } from "../../features/presentation/mask";
import { usePreferences } from "../../components/preferences";
import { filterKeys, filterNames, sinceChoices, words, type FilterKey } from "./filters";

/** FilterChips shows the filters of the page's address and adds more. */
export function FilterChips() {
  const [params, edit] = useRoute();
  const { presenting } = usePreferences();
  const said = (key: FilterKey) => {
    const value = words(key, params.get(key) ?? "");
    return presenting ? maskText(value) : value;
  };
  const [open, setOpen] = useState(false);
  const change = (key: FilterKey, value: string | undefined) =>
    edit((next) => {
      if (value) next.set(key, value);
      else next.delete(key);
    });
  const set = filterKeys.filter((key) => params.get(key));
  return (
    <>
      {set.map((key) => (
        <button
          key={key}
          type="button"
          className="filterchip"
          aria-label={`Remove the filter ${filterNames[key]} ${said(key)}`}
          onClick={() => change(key, undefined)}
        >
          <b>{filterNames[key]}</b> {said(key)}
          <Icon name="close" />
        </button>
      ))}
      <Popover
        open={open}
        onOpenChange={setOpen}
        trigger="click"
        placement="bottomLeft"
        content={<FilterForm params={params} change={change} onDone={() => setOpen(false)} />}
      >
        <button type="button" className="filterchip add" aria-expanded={open}>
          <Icon name="plus" /> Filter
        </button>
      </Popover>
    </>
  );
}

function FilterForm(props: {
  params: URLSearchParams;
  change: (key: FilterKey, value: string | undefined) => void;
  onDone: () => void;
}) {
  const { params, change } = props;
  const { presenting } = usePreferences();
  const own = (key: FilterKey) => {
    const value = params.get(key) ?? "";
    return presenting && hasAddress(value) ? "" : value; // the chip stands for it
  };
  const select = (key: FilterKey, options: { value: string; label: string }[]) => (
    <label>
      {filterNames[key][0]?.toUpperCase()}
      {filterNames[key].slice(1)}
      <Select
        allowClear
        value={params.get(key)}
        placeholder="any"
        options={options}
        onChange={(value: string | undefined) => change(key, value)}
        aria-label={filterNames[key]}
      />
    </label>
  );
  const text = (key: FilterKey, hint: string) => (
    <label>
      {filterNames[key][0]?.toUpperCase()}
      {filterNames[key].slice(1)}
      <Input
        key={params.get(key)}
        defaultValue={own(key)}
        className={presenting ? "veiled" : ""}
        placeholder={hint}
        onBlur={(e) => e.target.value.trim() !== own(key) && change(key, e.target.value.trim() || undefined)}
        onPressEnter={(e) => {
          change(key, e.currentTarget.value.trim() || undefined);
          props.onDone();
        }}
      />
    </label>
  );
  return (
    <div className="filterform" onKeyDown={(e) => e.key === "Escape" && props.onDone()}>
      {select(
        "since",
        Object.entries(sinceChoices).map(([value, c]) => ({ value, label: c.words })),
      )}
      {text("country_code", "PT")}
      {text("city", "Lisbon")}
      {select(
        "level",
        ["city", "region", "country", "continent", "none"].map((value) => ({ value, label: value })),
      )}
      {select(
        "basis",
        bases.map((value) => ({ value, label: value })),
      )}
      {select("skipped", [
        { value: "false", label: "left out" },
        { value: "true", label: "only" },
      ])}
      {text("path", "/programme")}
      {text("referrer", "rowing-news.example")}
      {text("language", "pt-PT")}
      {text("label", "office")}
      {text("link", "newsletter")}
      {select(
        "mark",
        ["bot", "monitor", "preview", "repeat", "test", "private"].map((value) => ({ value, label: value })),
      )}
      <Button onClick={props.onDone}>Done</Button>
    </div>
  );
}
