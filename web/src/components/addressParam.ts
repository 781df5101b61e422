import { useCallback, useEffect, useMemo } from "react";
import { useSearchParams } from "react-router";
import { hide, keep, show } from "../features/presentation/hidden";
import { hasAddress } from "../features/presentation/mask";
import { usePreferences } from "./preferences";

/** useRoute reads the parameters of the page's address, and hides in it, while presenting, whatever has an address. */
export function useRoute(): [URLSearchParams, (edit: (params: URLSearchParams) => void) => void] {
  const { presenting } = usePreferences();
  const [params, setParams] = useSearchParams();
  const change = useCallback(
    (edit: (params: URLSearchParams) => void, replace = false) =>
      setParams(
        (before) => {
          const next = mapped(before, show);
          edit(next);
          return presenting ? mapped(next, hidden) : next;
        },
        { replace },
      ),
    [presenting, setParams],
  );
  useEffect(() => {
    for (const [, value] of params) keep(value);
    const wanted = presenting ? mapped(params, hidden) : mapped(params, show);
    if (wanted.toString() !== params.toString()) change(() => undefined, true);
  }, [change, params, presenting]);
  return [useMemo(() => mapped(params, show), [params]), change];
}

const hidden = (value: string) => (hasAddress(value) ? hide(value) : value);

const mapped = (params: URLSearchParams, by: (value: string) => string) =>
  new URLSearchParams([...params].map(([k, v]) => [k, by(v)] as [string, string]));

/** lookupPath is the route of an address's card. */
export const lookupPath = (address: string, presenting: boolean) =>
  `/lookup?address=${encodeURIComponent(presenting ? hide(address) : address)}`;
