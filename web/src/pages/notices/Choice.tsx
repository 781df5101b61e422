import { Popover } from "antd";
import { useEffect, useId, useRef, useState, type ReactNode } from "react";
import { Icon } from "../../components/icons";

/** Choice is a part of a sentence that opens what it may be. By keyboard, the focus goes there and comes back. */
export function Choice(props: { words: string; label: string; children: (close: () => void) => ReactNode }) {
  const [open, setOpen] = useState(false);
  const id = useId();
  const close = () => {
    setOpen(false);
    document.getElementById(id)?.focus();
  };
  return (
    <Popover
      trigger="click"
      placement="bottomLeft"
      open={open}
      onOpenChange={setOpen}
      destroyOnHidden
      content={<Body onClose={close}>{props.children(close)}</Body>}
    >
      <button
        id={id}
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

function Body({ onClose, children }: { onClose: () => void; children: ReactNode }) {
  const body = useRef<HTMLDivElement>(null);
  useEffect(() => body.current?.querySelector<HTMLElement>("input, button")?.focus(), []);
  return (
    <div
      ref={body}
      className="choice-body"
      onKeyDown={(e) => {
        if (e.key === "Escape") onClose();
      }}
    >
      {children}
    </div>
  );
}
