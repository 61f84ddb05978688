import { useMutation, useQueryClient } from "@tanstack/react-query";

/** Changes something, and asks again for what that touches. */
export function useChange<I, O>(touches: string[], change: (input: I) => Promise<O>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: () => Promise.all(touches.map((name) => queries.invalidateQueries({ queryKey: [name] }))),
  });
}

/** The header that lets a change go through only if the thing is as it was seen. */
export const ifSeen = (version: string | number) => ({ "If-Match": `"${String(version)}"` });

export function useKeyringChange<I, O>(change: (input: I) => Promise<O>) {
  return useChange(["keys", "key", "publishers", "overview", "reassessments"], change);
}
