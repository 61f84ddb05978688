/** Fetches the next part of a list that is drawn as far as it is wanted. */
export function More({
  list,
  children,
}: {
  list: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };
  children: string;
}) {
  if (!list.hasNextPage) return null;
  return (
    <button type="button" className="btn btn-sm self-center" disabled={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
      {children}
    </button>
  );
}
