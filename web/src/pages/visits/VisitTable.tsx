import { memo, type KeyboardEvent, type ReactNode } from "react";
import type { Visit } from "../../api/client";
import { useSites } from "../../api/queries";
import { bitsLeft, clockTime, km, placeName, unverified, wasFound } from "../../components/format";
import { Addr, Country, AttentionChip, KindChip, LabelChip, LevelMark, Steps } from "../../components/parts";
import { smallTablet, tablet, useNarrow } from "../../components/useNarrow";
import { Thumb } from "../../features/map/Thumb";

/** AddressOf shows the address as far as it is kept, and says where it is not. */
export function AddressOf({ visit, short = false }: { visit: Visit; short?: boolean }) {
  const { text, placeholder } = visit.card.address;
  const site = useSites().data?.sites.find((s) => s.host === visit.site);
  const bits = text && site?.privacy === "truncated" ? bitsLeft(text) : "";
  if (text) return <Addr text={text} bits={bits} subject link short={short} />;
  return <span className="second">{placeholder ?? (wasFound(visit.card) ? "not kept" : "not found")}</span>;
}

/** Marks are what is worth knowing of a visit beside its place. */
export function Marks({ visit }: { visit: Visit }) {
  const loose = unverified(visit.trail);
  return (
    <>
      {visit.card.address.skipped && <KindChip card={visit.card} />}
      {visit.marks.map((m) => (
        <span key={m} className="chip kind">
          {m}
        </span>
      ))}
      {visit.card.labels.map((l) => (
        <LabelChip key={l} label={l} />
      ))}
      {!wasFound(visit.card) && <AttentionChip>no visitor found</AttentionChip>}
      {loose > 0 && wasFound(visit.card) && <AttentionChip>{loose} unverified</AttentionChip>}
    </>
  );
}

export function placeLine(visit: Visit): { head: string; below: string } {
  const { card } = visit;
  const w = card.location;
  if (card.address.skipped && w.level === "none") return { head: "Skipped", below: "never looked up" };
  switch (w.level) {
    case "none":
      return { head: "Location unknown", below: wasFound(card) ? "no source knows it" : "no visitor" };
    case "country":
      return { head: w.names.country ?? "", below: "no region said" };
    default:
      return { head: placeName(w), below: w.names.country ?? "" };
  }
}

export const within = (v: Visit) =>
  v.card.location.radius_km === null ? "–" : km(v.card.location.radius_km);

interface Column {
  title: string;
  /** width in pixels; the one column without it takes the rest. */
  width?: number;
  right?: boolean;
  cell: (v: Visit) => ReactNode;
}

/** wideColumns is one line a row, narrowColumns two, so that nothing is cut beside an open visit. */
const wideColumns: Column[] = [
  { title: "Time", width: 112, cell: (v) => <time dateTime={v.time}>{clockTime(v.time)}</time> },
  { title: "Address", width: 172, cell: (v) => <AddressOf visit={v} short /> },
  {
    title: "Location",
    cell: (v) => {
      const w = v.card.location;
      const line = placeLine(v);
      if (w.level === "none")
        return (
          <span className="second">
            {line.head}, {line.below}
          </span>
        );
      return (
        <span className="one">
          <Country code={w.country_code} name={<b>{line.head}</b>} />
          <span className="second">{line.below}</span>
        </span>
      );
    },
  },
  { title: "Level", width: 100, cell: (v) => <LevelMark level={v.card.location.level} /> },
  { title: "Within", width: 84, right: true, cell: (v) => within(v) },
  { title: "Path", width: 150, cell: (v) => <code className="small cut block">{v.path}</code> },
  { title: "Marks", width: 176, cell: (v) => <Marks visit={v} /> },
];

const narrowColumns: Column[] = [
  {
    title: "Time",
    width: 66,
    cell: (v) => {
      const [time, day] = clockTime(v.time).split(" ").reverse();
      return (
        <time className="two" dateTime={v.time}>
          {time}
          <span className="small quiet">{day && clockTime(v.time).replace(` ${time ?? ""}`, "")}</span>
        </time>
      );
    },
  },
  {
    title: "Address, page",
    width: 150,
    cell: (v) => (
      <span className="two">
        <AddressOf visit={v} short />
        <code className="small second cut">{v.path}</code>
      </span>
    ),
  },
  {
    title: "Location",
    cell: (v) => {
      const line = placeLine(v);
      const w = v.card.location;
      return (
        <span className="withthumb">
          <Thumb at={w} aside={v.card.address.skipped} />
          <span className="two">
            <b className="cut">{line.head}</b>
            <span className="second">
              {w.level === "none" ? line.below : <Country code={w.country_code} name={line.below} />}
            </span>
          </span>
        </span>
      );
    },
  },
  {
    title: "Within",
    width: 88,
    right: true,
    cell: (v) => (
      <span className="two right">
        {within(v)}
        {v.card.location.level !== "none" && (
          <span className="level second">
            <Steps level={v.card.location.level} />
            {v.card.location.level}
          </span>
        )}
      </span>
    ),
  },
  { title: "Marks", width: 134, cell: (v) => <Marks visit={v} /> },
];

/** smallColumns have the marks below the place, which has no picture. */
const smallColumns: Column[] = narrowColumns
  .filter((c) => c.title !== "Marks")
  .map((c) =>
    c.title === "Location"
      ? {
          ...c,
          cell: (v) => {
            const line = placeLine(v);
            const w = v.card.location;
            return (
              <span className="two">
                <b>{line.head}</b>
                <span className="second">
                  {w.level === "none" ? line.below : <Country code={w.country_code} name={line.below} />}
                </span>
                <span>
                  <Marks visit={v} />
                </span>
              </span>
            );
          },
        }
      : c,
  );

interface Props {
  visits: Visit[];
  open: string;
  onOpen: (id: string) => void;
}

/** onRowKey walks the rows with up and down, and opens one with Enter. */
function onRowKey(e: KeyboardEvent<HTMLTableRowElement>, open: () => void) {
  if (e.target !== e.currentTarget) return;
  if (e.key === "Enter") open();
  else if (e.key === "ArrowDown") (e.currentTarget.nextElementSibling as HTMLElement | null)?.focus();
  else if (e.key === "ArrowUp") (e.currentTarget.previousElementSibling as HTMLElement | null)?.focus();
  else return;
  e.preventDefault();
}

/** VisitTable lists visits on a wide screen. It is a plain table: the library's own would break the content-security policy. */
export function VisitTable({ visits, open, onOpen }: Props) {
  const onTablet = useNarrow(tablet);
  const onSmall = useNarrow(smallTablet);
  const columns = onSmall ? smallColumns : open || onTablet ? narrowColumns : wideColumns;
  return (
    <table className={columns === wideColumns ? "visits-table" : "visits-table narrow"}>
      <colgroup>
        {columns.map((c) => (
          <col key={c.title} {...(c.width ? { style: { width: c.width } } : {})} />
        ))}
      </colgroup>
      <thead>
        <tr>
          {columns.map((c) => (
            <th key={c.title} scope="col" className={c.right ? "right" : ""}>
              {c.title}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {visits.map((v) => (
          <Row key={v.id} visit={v} columns={columns} isOpen={v.id === open} onOpen={onOpen} />
        ))}
      </tbody>
    </table>
  );
}

interface RowProps {
  visit: Visit;
  columns: Column[];
  isOpen: boolean;
  onOpen: (id: string) => void;
}

/** Row is drawn again only where something of it has changed: lists are long. */
const Row = memo(function Row({ visit, columns, isOpen, onOpen }: RowProps) {
  return (
    <tr
      className={[visit.card.address.skipped ? "aside" : "", isOpen ? "chosen" : ""].join(" ")}
      tabIndex={0}
      aria-selected={isOpen}
      onClick={(e) => {
        if (!(e.target as HTMLElement).closest("a")) onOpen(visit.id);
      }}
      onKeyDown={(e) => onRowKey(e, () => onOpen(visit.id))}
    >
      {columns.map((c) => (
        <td key={c.title} className={c.right ? "right" : ""}>
          {c.cell(visit)}
        </td>
      ))}
    </tr>
  );
});
