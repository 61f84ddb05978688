import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useEffect, useLayoutEffect, useRef, useState } from "react";

/** Up to how many rows a list is drawn as it is. */
const short = 60;

/**
 * A list of which only what is on the screen is drawn, so that tens of thousands of rows
 * cost no more than a few dozen. more fetches what comes behind the rows that are known.
 */
export function LongList<T>({
  rows,
  keyOf,
  children,
  more,
}: {
  rows: T[];
  keyOf: (row: T) => string | number;
  children: (row: T, i: number) => ReactNode;
  more?: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };
}) {
  if (rows.length <= short && !more?.hasNextPage) {
    return (
      <ul className="rows">
        {rows.map((row, i) => (
          <li key={keyOf(row)}>{children(row, i)}</li>
        ))}
      </ul>
    );
  }
  return (
    <Drawn rows={rows} keyOf={keyOf} more={more}>
      {children}
    </Drawn>
  );
}

function Drawn<T>({ rows, keyOf, children, more }: Parameters<typeof LongList<T>>[0]) {
  const list = useRef<HTMLUListElement>(null);
  const [top, setTop] = useState(0);
  useLayoutEffect(() => {
    setTop((list.current?.getBoundingClientRect().top ?? 0) + window.scrollY);
  }, [rows.length]);
  const virtual = useWindowVirtualizer({
    count: rows.length,
    estimateSize: () => 44,
    overscan: 12,
    scrollMargin: top,
    getItemKey: (i) => {
      const row = rows[i];
      return row === undefined ? i : keyOf(row);
    },
  });
  const drawn = virtual.getVirtualItems();
  const last = drawn[drawn.length - 1]?.index ?? 0;
  const fetchNext = last >= rows.length - 20 && more?.hasNextPage && !more.isFetchingNextPage ? more.fetchNextPage : undefined;
  useEffect(() => {
    void fetchNext?.();
  }, [fetchNext]);
  return (
    <ul ref={list} className="rows relative" style={{ height: `${virtual.getTotalSize()}px` }}>
      {drawn.map((item) => {
        const row = rows[item.index];
        return (
          row !== undefined && (
            <li
              key={item.key}
              data-index={item.index}
              ref={virtual.measureElement}
              className="absolute inset-x-0 top-0"
              style={{ transform: `translateY(${item.start - top}px)` }}
            >
              {children(row, item.index)}
            </li>
          )
        );
      })}
    </ul>
  );
}
