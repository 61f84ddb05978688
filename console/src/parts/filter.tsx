/** A choice among a few values, or all of them. */
export function Filter({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: string;
  options: readonly string[];
  onChange: (value: string) => void;
}) {
  return (
    <label className="flex items-center gap-2 text-sm">
      {label}
      <select
        className="select select-sm w-auto"
        value={value}
        onChange={(e) => {
          onChange(e.target.value);
        }}
      >
        <option value="">all</option>
        {options.map((o) => (
          <option key={o}>{o}</option>
        ))}
      </select>
    </label>
  );
}
