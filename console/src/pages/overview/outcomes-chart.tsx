import { Bar, BarChart, CartesianGrid, ResponsiveContainer, XAxis, YAxis } from "recharts";

import type { DayCount } from "../../api/client";

const fills = { cleared: "var(--color-success)", unproven: "var(--color-warning)", refused: "var(--color-error)" };
const verdicts = ["cleared", "unproven", "refused"] as const;

/** Verdicts on artifacts by day, the last two weeks; days without any are shown as such. */
export default function OutcomesChart({ days }: { days: DayCount[] }) {
  const rows = lastDays(14).map((name) => {
    const row = { name: name.slice(5), cleared: 0, unproven: 0, refused: 0 };
    for (const d of days) {
      if (d.day === name && d.verdict !== "companion") row[d.verdict] += d.count;
    }
    return row;
  });
  const said = rows
    .filter((r) => r.cleared + r.unproven + r.refused > 0)
    .map((r) => `${r.name}: ${r.cleared} cleared, ${r.unproven} unproven, ${r.refused} refused`);
  return (
    <figure className="pt-2">
      <div className="h-56" aria-hidden>
        <ResponsiveContainer width="100%" height="100%">
          <BarChart data={rows} margin={{ top: 4, right: 4, bottom: 0, left: -24 }} accessibilityLayer={false}>
            <CartesianGrid vertical={false} stroke="var(--color-base-300)" />
            <XAxis dataKey="name" tick={{ fill: "currentColor", fontSize: 12 }} stroke="var(--color-base-300)" interval={2} />
            <YAxis allowDecimals={false} tick={{ fill: "currentColor", fontSize: 12 }} stroke="var(--color-base-300)" />
            {verdicts.map((v) => (
              <Bar key={v} dataKey={v} stackId="all" fill={fills[v]} isAnimationActive={false} maxBarSize={28} />
            ))}
          </BarChart>
        </ResponsiveContainer>
      </div>
      <ul className="flex justify-center gap-4 text-sm" aria-hidden>
        {verdicts.map((v) => (
          <li key={v} className="flex items-center gap-1.5">
            <svg className="size-3" viewBox="0 0 1 1">
              <rect width="1" height="1" fill={fills[v]} />
            </svg>
            {v}
          </li>
        ))}
      </ul>
      <figcaption className="sr-only">{said.length > 0 ? said.join("; ") : "No artifact was verified in the last two weeks."}</figcaption>
    </figure>
  );
}

function lastDays(n: number): string[] {
  const out: string[] = [];
  for (let i = n - 1; i >= 0; i--) out.push(new Date(Date.now() - i * 86_400_000).toISOString().slice(0, 10));
  return out;
}
