import "./atlas.css";
import "./figures.css";
import { useAtlas, useEditions } from "../../api/queries";
import { NoRangeData } from "../../components/NoRangeData";
import { Bars, Failed } from "../../components/states";
import { AccuracyPanel } from "./AccuracyPanel";
import { CorrectionsPanel } from "./CorrectionsPanel";
import { CoveragePanel } from "./CoveragePanel";
import { EditionsPanel } from "./EditionsPanel";
import { FeedsPanel } from "./FeedsPanel";
import { VisitsKnownPanel } from "./VisitsKnownPanel";
import { SourcesPanel } from "./SourcesPanel";
import { ActivatePanel } from "./ActivatePanel";

/** AtlasPage shows what is known of the ranges, how well, and what a newer edition would change. */
export function AtlasPage() {
  const atlas = useAtlas();
  const editions = useEditions();
  if (atlas.isPending || editions.isPending)
    return (
      <div className="panel">
        <Bars label="The atlas is loading" rows={6} />
      </div>
    );
  if (atlas.isError || editions.isError)
    return (
      <div className="panel">
        <Failed
          what="The atlas could not be loaded."
          error={atlas.error ?? editions.error}
          retry={() => {
            void atlas.refetch();
            void editions.refetch();
          }}
        />
      </div>
    );
  const list = editions.data.editions;
  const ready = list.find((e) => e.state === "ready" && !e.unusable);
  return (
    <div className="atlas">
      <div className="atlas-main">
        {!atlas.data.sources.some((s) => s.rank > 0) && (
          <div className="panel">
            <NoRangeData />
          </div>
        )}
        <SourcesPanel atlas={atlas.data} job={editions.data.job} />
        <EditionsPanel editions={list} job={editions.data.job} />
        <CoveragePanel edition={atlas.data.name} />
        <VisitsKnownPanel edition={atlas.data.name} />
        <FeedsPanel />
        <CorrectionsPanel />
      </div>
      <div className="atlas-side">
        <ActivatePanel now={atlas.data.name} ready={ready} job={editions.data.job} />
        <AccuracyPanel now={atlas.data.name} ready={ready?.name ?? ""} />
      </div>
    </div>
  );
}
