// Times as a technician says them: absolute, with the distance that matters beside them.
const day = 24 * 3600 * 1000;

export function absolute(iso: string, now = new Date()): string {
  const t = new Date(iso);
  const sameYear = t.getFullYear() === now.getFullYear();
  const date = t.toLocaleDateString("en-GB", {
    weekday: "short",
    day: "numeric",
    month: "short",
    ...(sameYear ? {} : { year: "numeric" }),
  });
  const clock = t.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
  return `${date.replace(",", "")}, ${clock}`;
}

/** A distance in its two largest units, such as "2 h 10 min". */
export function distance(ms: number): string {
  const minutes = Math.floor(Math.abs(ms) / 60000);
  if (minutes < 1) return "under a minute";
  if (minutes < 60) return `${minutes} min`;
  const hours = Math.floor(minutes / 60);
  if (hours < 24) return minutes % 60 ? `${hours} h ${minutes % 60} min` : `${hours} h`;
  const days = Math.floor(hours / 24);
  return days === 1 ? "1 day" : `${days} days`;
}

export function ago(iso: string, now = new Date()): string {
  return `${distance(now.getTime() - new Date(iso).getTime())} ago`;
}

/** How far a moment is from the loss, or from now where no loss is named. */
export function relative(iso: string, loss: string | null, now = new Date()): string {
  if (!loss) return ago(iso, now);
  const apart = new Date(loss).getTime() - new Date(iso).getTime();
  return `${distance(apart)} ${apart >= 0 ? "before" : "after"} the loss`;
}

export function expiry(iso: string | null | undefined, now = new Date()): { text: string; soon: boolean } {
  if (!iso) return { text: "does not expire", soon: false };
  const left = new Date(iso).getTime() - now.getTime();
  if (left < 0) return { text: "overdue: may vanish any time", soon: true };
  return { text: `expires in ${distance(left)}`, soon: left < 7 * day };
}

export const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

export function bytes(n: number | null | undefined): string {
  if (n === null || n === undefined || n < 0) return "—"; // below zero: nothing tells
  const units = ["B", "KiB", "MiB", "GiB", "TiB"];
  let value = n;
  let unit = 0;
  while (value >= 1024 && unit < units.length - 1) {
    value /= 1024;
    unit++;
  }
  return `${unit === 0 || value >= 100 ? Math.round(value) : value.toFixed(1)} ${units[unit]}`;
}

export function counted(n: number, one: string, many = `${one}s`): string {
  return n === 1 ? `1 ${one}` : `${n.toLocaleString("en-GB")} ${many}`;
}
