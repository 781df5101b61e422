import { Popover } from "antd";
import { useState, type ReactNode } from "react";
import { Icon } from "../../components/icons";

/** Choice is a part of a sentence that opens what it may be. */
export function Choice(props: { words: string; label: string; children: (close: () => void) => ReactNode }) {
  const [open, setOpen] = useState(false);
  return (
    <Popover
      trigger="click"
      placement="bottomLeft"
      open={open}
      onOpenChange={setOpen}
      destroyOnHidden
      content={<div className="choice-body">{props.children(() => setOpen(false))}</div>}
    >
      <button
        type="button"
        className="sentence-choice"
        aria-label={`${props.label}: ${props.words}`}
        aria-expanded={open}
      >
        {props.words}
        <Icon name="down" />
      </button>
    </Popover>
  );
}
