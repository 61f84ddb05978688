import { groups } from "./text";

/** A digest or fingerprint in groups of four. */
export function Hex({ value }: { value: string }) {
  return (
    <span className="inline-flex flex-wrap gap-x-[0.7ch] font-mono">
      {groups(value).map((group, i) => (
        <span key={i}>{group}</span>
      ))}
    </span>
  );
}

/**
 * Two values one above the other in groups of four. Characters that differ are
 * bold, underlined and coloured, so that no eye has to find them and colour
 * alone does not tell.
 */
export function Comparison({
  expected,
  computed,
  labels = ["expected", "computed"],
}: {
  expected: string;
  computed: string;
  labels?: [string, string];
}) {
  const e = expected.toUpperCase();
  const c = computed.toUpperCase();
  const length = Math.max(e.length, c.length);
  let differing = 0;
  for (let i = 0; i < length; i++) if (e[i] !== c[i]) differing++;
  // Where most characters differ, marking each says nothing: it is another value.
  if (2 * differing > length) {
    return (
      <div>
        <dl className="grid grid-cols-[6rem_1fr] gap-x-3">
          {[
            [labels[0], e],
            [labels[1], c],
          ].map(([label = "", value = ""]) => (
            <div key={label} className="contents">
              <dt className="text-sm soft">{label}</dt>
              <dd className="min-w-0">
                <Hex value={value} />
              </dd>
            </div>
          ))}
        </dl>
        <p className="text-sm soft">Another value altogether.</p>
      </div>
    );
  }
  const columns = [];
  for (let at = 0; at < length; at += 4) columns.push(at);
  const cell = (own: string, other: string, at: number) =>
    [0, 1, 2, 3].map((i) => {
      const differs = own[at + i] !== other[at + i];
      return (
        <span key={i} className={differs ? "font-bold text-error underline decoration-2 underline-offset-4" : ""}>
          {own[at + i] ?? "·"}
        </span>
      );
    });
  return (
    <div className="overflow-x-auto">
      <div className="flex gap-3 font-mono">
        <div className="shrink-0 font-sans text-sm soft">
          <div className="h-6">{labels[0]}</div>
          <div className="h-6">{labels[1]}</div>
        </div>
        <div className="flex flex-wrap gap-x-[1ch] gap-y-2">
          {columns.map((at) => (
            <div key={at}>
              <div className="h-6">{cell(e, c, at)}</div>
              <div className="h-6">{cell(c, e, at)}</div>
            </div>
          ))}
        </div>
      </div>
      <p className="text-sm soft">
        {differing} of {length} characters differ.
      </p>
    </div>
  );
}
