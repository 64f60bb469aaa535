import { useNow } from "../useNow";

const periods = [
  { name: "today", hours: 24 },
  { name: "in the last 3 days", hours: 72 },
  { name: "in the last week", hours: 168 },
  { name: "in the last 30 days", hours: 720 },
];

/** Since when it is gone: the address keeps the moment itself, to the hour, so that a link means the same tomorrow. */
export function Since({ value, change }: { value: string; change: (v: string) => void }) {
  const now = useNow();
  const choose = (hours: string) => {
    const since = new Date(now - Number(hours) * 3600_000);
    since.setMinutes(0, 0, 0);
    change(hours ? since.toISOString() : "");
  };
  const known = periods.find((p) => Math.abs(now - new Date(value).getTime() - p.hours * 3600_000) < 2 * 3600_000);
  return (
    <label>
      Deleted
      <select value={value ? String(known?.hours ?? "other") : ""} onChange={(e) => choose(e.target.value)}>
        <option value="">any time</option>
        {periods.map((p) => (
          <option key={p.hours} value={p.hours}>
            {p.name}
          </option>
        ))}
        {value && !known && <option value="other">since {new Date(value).toLocaleString("en-GB")}</option>}
      </select>
    </label>
  );
}
