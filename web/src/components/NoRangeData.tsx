import { useAtlas } from "../api/queries";

/** useHasRangeData says whether the edition in use has a source; null until it is known. */
export function useHasRangeData(): boolean | null {
  const atlas = useAtlas();
  return atlas.data ? atlas.data.sources.some((s) => s.rank > 0) : null;
}

/** NoRangeData says that no address is located yet, and how to change that. */
export function NoRangeData() {
  return (
    <div className="no-ranges" role="note">
      <b>There is no range data yet, so no address is located.</b>
      <p>
        Much is published openly: countries by registration everywhere, towns where a network says them. This
        puts it into your configuration:
      </p>
      <pre className="mono">
        eastporch atlas starter --write --config eastporch.yaml{"\n"}eastporch reload
      </pre>
      <p className="second">
        Nothing is fetched before. <code>eastporch atlas starter</code> alone prints what it costs, whose
        terms to read, and what each region lacks. A file of your own:{" "}
        <code>eastporch init --ranges FILE</code>.
      </p>
    </div>
  );
}
