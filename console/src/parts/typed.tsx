/** A field of a filter. What is typed counts when it has been typed: on Enter, or when another field is gone to. */
export function Typed({
  label,
  value,
  change,
  placeholder,
  type = "search",
  width = "w-48",
}: {
  label: string;
  value: string;
  change: (value: string) => void;
  placeholder?: string;
  type?: string;
  width?: string;
}) {
  return (
    <label className="flex items-center gap-2 text-sm">
      {label}
      <input
        key={value}
        className={`input input-sm ${width}`}
        type={type}
        placeholder={placeholder}
        defaultValue={value}
        onBlur={(e) => {
          if (e.target.value !== value) change(e.target.value);
        }}
        onKeyDown={(e) => {
          if (e.key === "Enter" && e.currentTarget.value !== value) change(e.currentTarget.value);
        }}
      />
    </label>
  );
}
