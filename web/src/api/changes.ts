import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App } from "antd";
import { Refusal } from "./client";

/** wordsOf says why something was refused, and what to do. */
export const wordsOf = (error: unknown) =>
  error instanceof Refusal ? `${error.problem.detail} ${error.problem.hint}`.trim() : String(error);

interface Change<I, O> {
  call: (input: I) => Promise<O>;
  /** stale are the keys of what is asked for again afterwards, refused or not; "all" for everything. */
  stale?: string[] | "all";
  /** done comes after it went well; what it says is shown. */
  done?: (answer: O, input: I) => unknown;
  /** quiet leaves it to the form to say what was wrong: `failed` has it. */
  quiet?: boolean;
}

/** useChange is a call that changes something. */
export function useChange<I, O>({ call, stale = [], done, quiet = false }: Change<I, O>) {
  const { message } = App.useApp();
  const queries = useQueryClient();
  const { mutate, isPending, error } = useMutation<O, unknown, I>({
    mutationFn: call,
    onSuccess: (answer, input) => {
      const words = done?.(answer, input);
      if (typeof words === "string") void message.success(words);
    },
    onError: (refused) => {
      if (!quiet) void message.error(wordsOf(refused));
    },
    onSettled: () =>
      stale === "all"
        ? queries.invalidateQueries()
        : Promise.all(stale.map((key) => queries.invalidateQueries({ queryKey: [key] }))),
  });
  return { change: mutate, busy: isPending, failed: error === null ? "" : wordsOf(error) };
}

/** useAction is useChange for a call that takes nothing. */
export function useAction<O>(change: Change<undefined, O>) {
  const { change: mutate, ...rest } = useChange(change);
  return { change: () => mutate(undefined), ...rest };
}
