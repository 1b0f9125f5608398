// How figures and names are written.

/** A span of milliseconds with the digits that matter. */
export function spanText(ms: number | null | undefined): string {
  if (ms === null || ms === undefined) return "–";
  if (ms < 0) return "-" + spanText(-ms);
  if (ms > 0 && ms < 0.1) return (ms * 1000).toFixed(0) + " µs";
  if (ms < 10) return ms.toFixed(1) + " ms";
  if (ms < 1000) return ms.toFixed(0) + " ms";
  if (ms < 60_000) return (ms / 1000).toFixed(2) + " s";
  if (ms < 3_600_000) return (ms / 60_000).toFixed(1) + " min";
  if (ms < 48 * 3_600_000) return (ms / 3_600_000).toFixed(1) + " h";
  return (ms / 86_400_000).toFixed(1) + " days";
}

export function bytesText(n: number): string {
  if (n < 1024) return n + " B";
  if (n < 1024 * 1024) return (n / 1024).toFixed(1) + " KiB";
  return (n / 1024 / 1024).toFixed(1) + " MiB";
}

/** A name as people would say it: validUntil is Valid until. */
export function saidName(name: string): string {
  const words = name.replace(/([a-z0-9])([A-Z])/g, "$1 $2").toLowerCase();
  return words.charAt(0).toUpperCase() + words.slice(1);
}
