import type { ReactNode } from "react";
import type { Card, Rehearsed } from "../../api/client";
import { km } from "../../components/format";
import {
  Addr,
  AttentionChip,
  Basis,
  CodeChip,
  KindChip,
  LabelChip,
  LevelMark,
  Prose,
} from "../../components/parts";
import { DecisionChip } from "../../features/gate/outcome";

export interface RowOf {
  title: string;
  under?: string;
  /** key is what tells results apart. */
  key: (r: Rehearsed) => string;
  cell: (r: Rehearsed) => ReactNode;
}

/** rowsOf are the rows of a rehearsal, in the order of the pipeline. */
export function rowsOf(results: Rehearsed[]): RowOf[] {
  const card = (r: Rehearsed) => r.card as Card;
  const today = new Set(
    results.flatMap((r) => (r.card?.clock.local_time ? [r.card.clock.local_time.slice(0, 10)] : [])),
  );
  const first = [...today].sort()[0];
  const rows: RowOf[] = [
    {
      title: "Address",
      under: "made up",
      key: (r) => card(r).address.text ?? "",
      cell: (r) => (
        <>
          {card(r).address.text ? <Addr text={card(r).address.text ?? ""} short link /> : <b>none</b>}{" "}
          <KindChip card={card(r)} />
          {card(r).labels.map((l) => (
            <LabelChip key={l} label={l} />
          ))}
          {card(r).address.reason && (
            <p className="small second">
              <Prose text={card(r).address.reason ?? ""} />
            </p>
          )}
        </>
      ),
    },
    {
      title: "Location",
      key: (r) => `${card(r).location.level} ${card(r).location.radius_km}`,
      cell: ({ card: c }) =>
        c && (
          <>
            <LevelMark level={c.location.level} />{" "}
            {c.location.radius_km !== null && (
              <span className="second">within {km(c.location.radius_km)}</span>
            )}
            {c.location.basis && (
              <p className="small second">
                <Basis basis={c.location.basis as never} />
              </p>
            )}
            {(c.location.missing.city ?? c.location.missing.level) && c.location.level !== "city" && (
              <p className="small second">
                <b>no town,</b> {c.location.missing.city ?? `${c.location.city} is not in the gazetteer`}
              </p>
            )}
          </>
        ),
    },
    {
      title: "Local time",
      key: (r) => card(r).clock.time_zone ?? "",
      cell: ({ card: c }) =>
        c?.clock.local_time ? (
          <>
            <span className="rehearse-big num">
              {new Intl.DateTimeFormat(c.locale.formatting, {
                hour: "numeric",
                minute: "2-digit",
                timeZone: c.clock.time_zone ?? "UTC",
              }).format(new Date(c.clock.local_time))}
            </span>{" "}
            <span lang={c.locale.language}>
              {new Intl.DateTimeFormat(c.locale.formatting, {
                weekday: "long",
                timeZone: c.clock.time_zone ?? "UTC",
              }).format(new Date(c.clock.local_time))}
            </span>
            {first && c.clock.local_time.slice(0, 10) > first && (
              <p>
                <AttentionChip>a day later</AttentionChip>
              </p>
            )}
            <p className="small second">
              {c.clock.time_zone}, UTC{c.clock.utc_offset}
            </p>
          </>
        ) : (
          <>
            <b>none</b> <span className="small second">{c?.location.missing.time_zone}</span>
          </>
        ),
    },
    {
      title: "Money",
      key: (r) => card(r).money.currency_code ?? "",
      cell: ({ card: c }) =>
        c?.money.currency_code ? (
          <>
            <span className="rehearse-big">{c.money.symbol}</span> <CodeChip code={c.money.currency_code} />
            {c.money.rate && (
              <p className="small second">{c.money.rate.direction ?? `prices are in ${c.money.rate.from}`}</p>
            )}
          </>
        ) : (
          <b>none</b>
        ),
    },
    {
      title: "Language",
      under: "asked for, then given",
      key: (r) => card(r).locale.language,
      cell: ({ card: c, accept_language }) =>
        c && (
          <>
            <p className="addr small second">{accept_language || "no header"}</p>
            <span lang={c.locale.language}>{c.locale.names.language}</span>{" "}
            <CodeChip code={c.locale.language} />
            {!accept_language.startsWith(c.locale.language.split("-")[0] ?? "") && accept_language && (
              <p>
                <AttentionChip>{`${accept_language.split(/[-,;]/)[0]} is not offered`}</AttentionChip>
              </p>
            )}
          </>
        ),
    },
    {
      title: "Gate",
      key: (r) => `${card(r).gate?.outcome} ${card(r).gate?.reason}`,
      cell: ({ card: c, refusal }) =>
        c?.gate && (
          <>
            <DecisionChip decision={c.gate} />
            <p className="small second">
              <Prose text={c.gate.reason} />
            </p>
            {refusal && (
              <p className="small">
                <a href={`/v1/gate/refusal?reference=${refusal.reference}`} target="_blank" rel="noreferrer">
                  See the page
                </a>{" "}
                <CodeChip code={refusal.language} /> {refusal.status}
              </p>
            )}
          </>
        ),
    },
    {
      title: "Content",
      under: "variants",
      key: (r) => JSON.stringify(card(r).variants),
      cell: ({ card: c }) =>
        Object.keys(c?.variants ?? {}).length ? (
          Object.entries(c?.variants ?? {}).map(([set, variant]) => (
            <p key={set} className="small">
              <span className="second">{set}</span> {variant}
            </p>
          ))
        ) : (
          <span className="second">no variants</span>
        ),
    },
  ];
  if (results.some((r) => r.page))
    rows.push({
      title: "Page",
      under: "asked of the site",
      key: (r) => `${r.page?.status} ${r.page?.language} ${r.page?.text}`,
      cell: ({ page }) =>
        page &&
        (page.problem ? (
          <p className="small bad">
            <Prose text={page.problem} />
          </p>
        ) : (
          <>
            <b>{page.status}</b> <CodeChip code={page.language || "no language"} />
            {!page.honoured && (
              <p>
                <AttentionChip>not as the visitor</AttentionChip>
              </p>
            )}
            <p className="small" lang={page.language}>
              {page.title}
            </p>
            <p className="small second rehearse-text" lang={page.language}>
              <Prose text={page.text} />
            </p>
          </>
        )),
    });
  return rows;
}
