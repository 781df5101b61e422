import { counted } from "../../components/format";
import { Button, Modal } from "antd";
import { useState } from "react";
import { useFeeds, type GatheredFeed } from "../../api/atlas";
import { Heads } from "../../components/Heads";
import { Addr, AttentionChip } from "../../components/parts";
import { Bars, Failed } from "../../components/states";
import { Notes } from "./SourcesPanel";
import { age } from "./words";

const states: Record<GatheredFeed["state"], string> = {
  used: "used",
  failing: "fails; its last content is used",
  lapsed: "lapsed",
  refused: "refused",
  waiting: "not asked yet",
};

/** FeedsPanel lists the geofeeds that are gathered; nothing where none is named. */
export function FeedsPanel() {
  const feeds = useFeeds();
  const [open, setOpen] = useState<GatheredFeed | null>(null);
  if (feeds.isPending)
    return (
      <section className="panel">
        <Bars label="The geofeeds are loading" rows={3} />
      </section>
    );
  if (feeds.isError)
    return (
      <section className="panel">
        <Failed
          what="The geofeeds could not be loaded."
          error={feeds.error}
          retry={() => void feeds.refetch()}
        />
      </section>
    );
  const list = feeds.data.pages.flatMap((page) => page.feeds);
  const { counts, entries } = feeds.data.pages[0] ?? { counts: {}, entries: 0 };
  if (list.length === 0) return null;
  const all = Object.values(counts).reduce((sum, n) => sum + n, 0);
  return (
    <section className="panel" aria-labelledby="feeds-title">
      <div className="panel-head keys-head">
        <h2 className="panel-title" id="feeds-title">
          Geofeeds
        </h2>
        <span className="small second">
          {all.toLocaleString("en")} named by networks, with {counted(entries, "entry", "entries")} that count
        </span>
      </div>
      <div className="scroll" tabIndex={0} role="region" aria-label="Geofeeds">
        <table className="evidence atlas-table feeds">
          <Heads of={["Feed", "State", ">Entries", ">Do not count", ">Last good"]} />
          <tbody>
            {list.map((f) => (
              <Row key={f.url} feed={f} onOpen={() => setOpen(f)} />
            ))}
          </tbody>
        </table>
      </div>
      {feeds.hasNextPage && (
        <p className="known-line">
          <Button loading={feeds.isFetchingNextPage} onClick={() => void feeds.fetchNextPage()}>
            Show more
          </Button>
        </p>
      )}
      {open && (
        <Modal
          open
          width={760}
          title="What of this feed does not count"
          footer={null}
          onCancel={() => setOpen(null)}
        >
          <p className="breakable mono small">{open.url}</p>
          <p className="second">
            Outside of the ranges that name it: {counted(open.outside, "entry", "entries")},{" "}
            {open.elsewhere.toLocaleString("en")} where a more specific range names another,{" "}
            {open.rejected.toLocaleString("en")} cannot be read. These are the first.
          </p>
          <Notes notes={open.notes} />
        </Modal>
      )}
    </section>
  );
}

function Row({ feed: f, onOpen }: { feed: GatheredFeed; onOpen: () => void }) {
  const not = f.outside + f.elsewhere + f.rejected;
  const first = f.named[0];
  return (
    <tr>
      <td>
        <span className="breakable">{f.url}</span>
        {first && (
          <span className="block small second">
            named by <Addr text={first.range} /> {first.network}
            {f.named_by > 1 && ` and ${(f.named_by - 1).toLocaleString("en")} more`}
            {f.signature !== "none" && `; signature ${f.signature}`}
          </span>
        )}
      </td>
      <td>
        {f.state === "used" ? states.used : <AttentionChip>{states[f.state]}</AttentionChip>}
        {f.failed && <span className="block small second breakable">{f.failed}</span>}
      </td>
      <td className="right num">{f.entries.toLocaleString("en")}</td>
      <td className="right">
        {not > 0 ? (
          <button
            type="button"
            className="num linklike"
            aria-label={`${counted(not, "entry", "entries")} of ${f.url} that do not count`}
            onClick={onOpen}
          >
            {not.toLocaleString("en")}
          </button>
        ) : (
          <span className="second">none</span>
        )}
      </td>
      <td className="right nowrap">{f.good ? age(f.good) : "never"}</td>
    </tr>
  );
}
