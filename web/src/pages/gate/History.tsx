import dayjs from "dayjs";
import { useState } from "react";
import { api, unwrap, type GateState } from "../../api/client";
import { useChange } from "../../api/changes";
import { useGateHistory } from "../../api/gate";
import { Bars, Failed } from "../../components/states";

/** History lists earlier rules, each of which can be returned to. */
export function History({ state }: { state: GateState }) {
  const history = useGateHistory(state.site);
  const [all, setAll] = useState(false);
  const back = useChange({
    call: (revision: number) =>
      unwrap(
        api.POST("/v1/gate/history/{revision}/return", {
          params: { path: { revision }, query: { site: state.site } },
        }),
      ),
    stale: ["gate", "gate-history", "gate-simulation"],
    done: (rev) => `Revision ${rev.revision} is in force.`,
  });
  if (history.isPending) return <Bars rows={2} label="The history is loading" />;
  if (history.isError)
    return (
      <Failed
        what="The history could not be loaded."
        error={history.error}
        retry={() => void history.refetch()}
      />
    );
  const list = history.data.revisions;
  if (list.length === 0) return null;
  return (
    <section className="gate-history" aria-label="Earlier rules">
      <h3 className="panel-title">Before</h3>
      <ul>
        {list.slice(0, all ? list.length : 3).map((rev) => (
          <li key={rev.revision}>
            <time className="small second" dateTime={rev.made_at}>
              {dayjs(rev.made_at).format("ddd D MMM, HH:mm")}
            </time>
            <span className="small">
              {rev.made_by}: {rev.changes.slice(0, 2).join("; ") || "no change"}
              {rev.changes.length > 2 && `; and ${rev.changes.length - 2} more`}
            </span>
            {rev.revision === state.live.revision ? (
              <span className="small quiet">in force</span>
            ) : (
              <button type="button" className="textlink small" onClick={() => back.change(rev.revision)}>
                Return to this
              </button>
            )}
          </li>
        ))}
      </ul>
      {list.length > 3 && (
        <button type="button" className="textlink small" onClick={() => setAll(!all)}>
          {all ? "Fewer" : `${list.length - 3} more`}
        </button>
      )}
    </section>
  );
}
