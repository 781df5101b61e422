/** useCountryNames gives the names of countries in English. */
export function useCountryNames(): (code: string) => string {
  const names = new Intl.DisplayNames(["en"], { type: "region" });
  return (code) => names.of(code) ?? code;
}
