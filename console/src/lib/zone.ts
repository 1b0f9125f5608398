// Times of day in a time zone, and the moments that they are.

export const ownZone = Intl.DateTimeFormat().resolvedOptions().timeZone;

export const zones = [...new Set([ownZone, "UTC", ...Intl.supportedValuesOf("timeZone")])];

const formats = new Map<string, Intl.DateTimeFormat>();

/** The time of day in a zone, in the form of a datetime-local input, to the second. */
export function localIn(zone: string, moment: Date): string {
  let format = formats.get(zone);
  if (!format) formats.set(zone, (format = new Intl.DateTimeFormat("sv-SE", { timeZone: zone, dateStyle: "short", timeStyle: "medium" })));
  return format.format(moment).replace(" ", "T");
}

/**
 * The moment of a time of day in a zone, in RFC 3339 with second; null if there is none, because
 * clocks are put forward over it. Of two, where clocks are put back, it is the earlier one.
 */
export function momentOf(local: string, zone: string): string | null {
  const asUTC = Date.parse(local + "Z");
  if (Number.isNaN(asUTC)) return null;
  const text = local.length === 16 ? local + ":00" : local;
  for (const offset of offsetsAround(zone, asUTC)) {
    const moment = new Date(asUTC - offset);
    if (localIn(zone, moment) === text) return moment.toISOString().replace(".000Z", "Z");
  }
  return null;
}

/** By how many milliseconds a zone's clocks are ahead of UTC around a time, the most first. */
function offsetsAround(zone: string, asUTC: number): number[] {
  const at = (ms: number) => Date.parse(localIn(zone, new Date(ms)) + "Z") - ms;
  const day = 24 * 3600_000;
  const whole = asUTC - (asUTC % 1000);
  return [...new Set([at(whole - day), at(whole), at(whole + day)])].sort((a, b) => b - a);
}
