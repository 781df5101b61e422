import { shown as withoutCodes } from "../../features/presentation/veil";
import { maskText } from "../../features/presentation/mask";
import { usePreferences } from "../../components/preferences";
import { csvCell } from "./lines";
import { type Row } from "./useMany";

export function table(head: string[], rows: (string | number | null)[][]): string {
  return [head.join(","), ...rows.map((r) => r.map(csvCell).join(","))].join("\r\n") + "\r\n";
}

export function answersCSV(rows: Row[]): string {
  return table(
    [
      "line",
      "input",
      "address",
      "kind",
      "skipped",
      "level",
      "country_code",
      "region",
      "city",
      "latitude",
      "longitude",
      "radius_km",
      "time_zone",
      "problem",
    ],
    rows.map((r) => [
      r.line,
      r.input,
      r.address,
      r.kind,
      String(r.aside),
      r.level,
      r.code,
      r.region,
      r.city,
      r.latitude,
      r.longitude,
      r.radius,
      r.zone,
      r.problem,
    ]),
  );
}

/** useSave gives what saves a text as a file; presentation masks what is in it. */
export function useSave() {
  const { presenting } = usePreferences();
  return (name: string, text: string) => save(name, presenting ? maskText(withoutCodes(text)) : text);
}

function save(name: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(url), 1000);
}
