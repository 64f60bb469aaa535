import { describe, expect, it } from "vitest";
import { absolute, bytes, distance, expiry } from "./when";

const now = new Date(2026, 2, 4, 12, 0);

describe("times are said as a technician says them", () => {
  it("names the day, and the year only where it is another", () => {
    expect(absolute(new Date(2026, 2, 3, 14, 5).toISOString(), now)).toBe("Tue 3 Mar, 14:05");
    expect(absolute(new Date(2025, 11, 24, 9, 0).toISOString(), now)).toBe("Wed 24 Dec 2025, 09:00");
  });
  it("gives distances in the units that matter", () => {
    expect(distance(130 * 60000)).toBe("2 h 10 min");
    expect(distance(-26 * 3600000)).toBe("1 day");
    expect(distance(5000)).toBe("under a minute");
  });
  it("warns of what expires within a week, and of what is overdue", () => {
    expect(expiry(new Date(2026, 2, 7, 12, 0).toISOString(), now)).toEqual({ text: "expires in 3 days", soon: true });
    expect(expiry(new Date(2026, 2, 24).toISOString(), now).soon).toBe(false);
    expect(expiry(new Date(2026, 2, 1).toISOString(), now).text).toContain("overdue");
    expect(expiry(null).text).toBe("does not expire");
  });
  it("gives sizes in binary units", () => {
    expect([0, 1023, 1024, 2900, 5 << 20].map(bytes)).toEqual(["0 B", "1023 B", "1.0 KiB", "2.8 KiB", "5.0 MiB"]);
    expect([null, undefined, -1].map(bytes)).toEqual(["—", "—", "—"]);
  });
});
