import { Tooltip } from "antd";
import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import type { Card, Evidence, Hop, Level, Trail } from "../api/client";
import { lookupPath } from "./addressParam";
import { isOpened, levelSteps } from "./format";
import { Icon, type IconName } from "./icons";
import { codeOf, shown as withoutCode } from "../features/presentation/veil";
import { hasAddress, maskAddress, maskText, shortenV6 } from "../features/presentation/mask";
import { usePreferences } from "./preferences";

/** Addr is the only way for an address or prefix to reach the screen; a click looks an address up. */
export function Addr(props: {
  text: string;
  /** bits is how long a prefix is left of the address, as /24. */
  bits?: string;
  subject?: boolean;
  link?: boolean;
  short?: boolean;
}) {
  const { presenting } = usePreferences();
  const plain = props.text + (props.bits ?? "");
  const shown = presenting
    ? veiledAddress(props.text)
    : (props.short ? shortenV6(props.text) : props.text) + (props.bits ?? "");
  const className = props.subject ? "addr subject" : "addr";
  const node = props.link ? (
    <Link className={className} to={lookupPath((presenting && codeOf(props.text)) || props.text, presenting)}>
      {shown}
    </Link>
  ) : (
    <span className={className}>{shown}</span>
  );
  return shown !== plain && !presenting ? <Tooltip title={plain}>{node}</Tooltip> : node;
}

/** veiledAddress is what is shown of an address, or of what was taken for one and is none. */
function veiledAddress(text: string): string {
  if (text.includes("•")) return withoutCode(text);
  return hasAddress(text) ? maskAddress(text) : maskText(text);
}

/** Prose shows a sentence of the service, in which addresses may stand. */
export function Prose({ text }: { text: string }) {
  const { presenting } = usePreferences();
  return <>{presenting ? maskText(withoutCode(text)) : text}</>;
}

export function Steps({ level }: { level: Level }) {
  const filled = levelSteps(level);
  return (
    <span className="steps" aria-hidden="true">
      {[1, 2, 3, 4].map((n) => (
        <i key={n} className={n <= filled ? "on" : ""} />
      ))}
    </span>
  );
}

export function LevelMark({ level }: { level: Level }) {
  return (
    <span className="level">
      <Steps level={level} />
      {level}
    </span>
  );
}

/** KindChip names what is special about an address; public addresses get none. */
export function KindChip({ card }: { card: Card }) {
  const { kind, skipped } = card.address;
  if (kind === null || kind === "public") return null;
  if (skipped) return <span className="chip kind aside">{kind} · skipped</span>;
  return <span className="chip kind">{isOpened(card) ? `${kind} · opened` : kind}</span>;
}

/** LabelChip names the owner's label of an address; claimed says that nobody verified it. */
export function LabelChip({ label, claimed = false }: { label: string; claimed?: boolean }) {
  return (
    <span className={claimed ? "chip label claimed" : "chip label"}>
      <Icon name="tag" />
      {claimed ? `${label}, claimed` : label}
    </span>
  );
}

export function CodeChip({ code }: { code: string }) {
  return <span className="chip code">{code}</span>;
}

export function AttentionChip({ children }: { children: ReactNode }) {
  return <span className="chip attention">{children}</span>;
}

const flags = import.meta.glob<string>("../../node_modules/flag-icons/flags/4x3/??.svg", {
  eager: true,
  query: "?url",
  import: "default",
});

/** Flag is decoration beside a country's name. */
export function Flag({ code }: { code: string | null }) {
  const url = code && flags[`../../node_modules/flag-icons/flags/4x3/${code.toLowerCase()}.svg`];
  if (!url) return <span className="flag blank" aria-hidden="true" />;
  return <img className="flag" src={url} alt="" loading="lazy" />;
}

export function Country({ code, name }: { code: string | null; name: ReactNode }) {
  return (
    <span className="country">
      <Flag code={code} />
      {name}
    </span>
  );
}

const bases: Record<Evidence["basis"], IconName> = {
  correction: "pencil",
  "self-published claim": "claim",
  "table's claim": "grid",
  registration: "ribbon",
  derived: "derived",
  "routing table": "trail",
};

export function Basis({ basis }: { basis: Evidence["basis"] }) {
  return (
    <span className="basis">
      <Icon name={bases[basis]} />
      {basis}
    </span>
  );
}

export const verdictWords: Record<Hop["verdict"], string> = {
  trusted: "trusted proxy",
  visitor: "visitor",
  unverified: "unverified",
  unreadable: "unreadable",
};

export function Pin({ verdict }: { verdict: Hop["verdict"] }) {
  return (
    <span className={`pin ${verdict}`} aria-hidden="true">
      {verdict === "trusted" && <Icon name="check" />}
      {verdict === "visitor" && <Icon name="door" />}
      {verdict === "unverified" && "?"}
      {verdict === "unreadable" && <Icon name="close" />}
    </span>
  );
}

/** MiniTrail draws the hops on one line, the peer at the left. */
export function MiniTrail({ trail }: { trail: Trail }) {
  const shown = trail.hops.slice(0, 7);
  const words = trail.hops.map((h) => verdictWords[h.verdict]).join(", ");
  return (
    <span className="minitrail" role="img" aria-label={`From the peer: ${words}`}>
      {shown.map((hop, i) => (
        <span key={i} className="minitrail">
          {i > 0 && <span className={hop.verdict === "unverified" ? "line loose" : "line"} />}
          <Pin verdict={hop.verdict} />
        </span>
      ))}
    </span>
  );
}

/** Fold is a caret, a title and a summary that opens to its content. */
export function Fold(props: { title: string; extra?: ReactNode; summary: ReactNode; children: ReactNode }) {
  const [open, setOpen] = useState(false);
  return (
    <section className="fold">
      <button type="button" aria-expanded={open} onClick={() => setOpen(!open)}>
        <Icon name={open ? "down" : "caret"} />
        <b>{props.title}</b>
        {props.extra}
        <span className="small quiet">{props.summary}</span>
      </button>
      {open && <div className="fold-body">{props.children}</div>}
    </section>
  );
}
