import { Button } from "antd";
import { useState } from "react";
import { accomplish, api, type Variants, type VariantSet } from "../../api/client";
import { useChange } from "../../api/changes";
import { useRates, useVariants } from "../../api/queries";
import { clockTime } from "../../components/format";
import { Icon } from "../../components/icons";
import { AttentionChip, Fold } from "../../components/parts";
import { useSite } from "../../components/site";
import { Bars, Failed } from "../../components/states";
import { VariantForm } from "./VariantForm";
import { sentence } from "./variants";

/** LocalPanel shows what a site offers by where visitors are: languages, money and content. */
export function LocalPanel() {
  const { site } = useSite();
  const variants = useVariants(site?.host ?? "");
  return (
    <section className="panel local" aria-labelledby="local-title">
      <div className="panel-head">
        <h2 className="panel-title" id="local-title">
          Localization
        </h2>
        <span className="small second">
          {site ? `what ${site.name} offers by where visitors are` : "no site is configured"}
        </span>
      </div>
      {variants.isPending && site ? (
        <Bars label="The localization is loading" />
      ) : variants.isError ? (
        <Failed
          what="The localization could not be loaded."
          error={variants.error}
          retry={() => void variants.refetch()}
        />
      ) : (
        variants.data && (
          <div className="local-columns">
            <Languages of={variants.data} />
            <Rates />
            <Content of={variants.data} />
          </div>
        )
      )}
    </section>
  );
}

function Languages({ of }: { of: Variants }) {
  const ownName = (tag: string) => new Intl.DisplayNames([tag], { type: "language" }).of(tag) ?? tag;
  return (
    <div>
      <h3 className="small second">Languages</h3>
      {of.languages.length === 0 ? (
        <p>
          Any. Name those that the site has under <code>sites.languages</code>, so that a visitor gets one of
          them.
        </p>
      ) : (
        <ul className="local-list">
          {of.languages.map((tag) => (
            <li key={tag}>
              <span lang={tag}>{ownName(tag)}</span> <code className="small second">{tag}</code>
              {tag === of.default_language && <span className="small second"> where no other suits</span>}
            </li>
          ))}
        </ul>
      )}
      <p className="small second">
        Own prices in {of.currency ?? "no currency yet"} · business hours {of.business_hours} by the visitor’s
        clock
      </p>
    </div>
  );
}

function Rates() {
  const rates = useRates();
  if (rates.isPending) return <Bars label="The rates are loading" />;
  if (rates.isError)
    return (
      <Failed what="The rates could not be loaded." error={rates.error} retry={() => void rates.refetch()} />
    );
  const r = rates.data;
  if (!r.base)
    return (
      <div>
        <h3 className="small second">Rates</h3>
        <p>
          None. Name a file or an address under <code>rates</code>, and prices are shown in the visitor’s
          currency.
        </p>
        {r.problem && <p className="signin-failed">{r.problem}</p>}
      </div>
    );
  const age = r.age_days === 0 ? "of today" : r.age_days === 1 ? "one day old" : `${r.age_days} days old`;
  return (
    <div>
      <h3 className="small second">Rates</h3>
      <p>
        {Object.keys(r.rates).length} currencies for {r.base},{" "}
        {r.stale ? <AttentionChip>{age}</AttentionChip> : age}.
      </p>
      <p className="small second">
        {r.source}, dated {r.dated}
        {r.read_at && `, read ${clockTime(r.read_at)}`}
      </p>
      {r.problem && (
        <p>
          <AttentionChip>The last update failed; these are the rates from before.</AttentionChip>{" "}
          <span className="small second breakable">{r.problem}</span>
        </p>
      )}
      {r.rejects.map((reject) => (
        <p className="small signin-failed" key={reject}>
          {reject}
        </p>
      ))}
      <Fold title="All rates" summary={`for 1 ${r.base}`}>
        <table className="evidence local-rates">
          <tbody>
            {Object.entries(r.rates).map(([code, rate]) => (
              <tr key={code}>
                <th scope="row">{code}</th>
                <td className="right">{rate}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Fold>
    </div>
  );
}

function Content({ of }: { of: Variants }) {
  const [editing, setEditing] = useState<VariantSet | "new" | null>(null);
  const { change: drop } = useChange({
    call: (name: string) =>
      accomplish(api.DELETE("/v1/variants/{name}", { params: { path: { name }, query: { site: of.site } } })),
    stale: ["variants"],
    done: (_, name) => `“${name}” was deleted.`,
  });
  return (
    <div>
      <div className="local-head">
        <h3 className="small second">Content variants</h3>
        <Button size="small" icon={<Icon name="plus" />} onClick={() => setEditing("new")}>
          New set
        </Button>
      </div>
      {of.sets.length === 0 && (
        <p>
          No variants yet. A set shows visitors one of several pictures, offers or catalogues, by where they
          are.
        </p>
      )}
      {of.sets.map((set) => (
        <div className="local-set" key={set.name}>
          <p>
            <b>{set.name}</b>{" "}
            {set.from === "configuration" ? (
              <span className="small second">from the configuration</span>
            ) : (
              <>
                <button type="button" className="textlink plain" onClick={() => setEditing(set)}>
                  Change
                </button>{" "}
                <button type="button" className="textlink bad" onClick={() => drop(set.name)}>
                  Drop
                </button>
              </>
            )}
          </p>
          <ol>
            {set.rules.map((rule, i) => (
              <li key={i}>
                <code>{rule.variant}</code> {sentence(rule.when)}
              </li>
            ))}
            <li>
              <code>{set.default}</code> for everybody else
            </li>
          </ol>
        </div>
      ))}
      {editing && (
        <VariantForm
          site={of}
          set={editing === "new" ? { name: "", default: "", rules: [] } : editing}
          fresh={editing === "new"}
          onClose={() => setEditing(null)}
        />
      )}
    </div>
  );
}
