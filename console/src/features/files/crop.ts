// The arithmetic of crops, as the service has it: the region of a picture that is shown.

export type Focus = { x: number; y: number; width: number; height: number };
export type Box = { x: number; y: number; width: number; height: number };

/** The largest region with the proportions of w to h that has the middle of the focus in its middle, as far as the edges allow. */
export function crop(width: number, height: number, w: number, h: number, focus?: Focus): Box {
  let cw = width;
  let ch = Math.round((width * h) / w);
  if (ch > height) {
    cw = Math.round((height * w) / h);
    ch = height;
  }
  cw = Math.min(Math.max(cw, 1), width);
  ch = Math.min(Math.max(ch, 1), height);
  const has = focus && focus.width > 0 && focus.height > 0;
  const place = (middle: number, whole: number, part: number) => Math.min(Math.max(Math.round(middle * whole - part / 2), 0), whole - part);
  return { x: place(has ? focus.x + focus.width / 2 : 0.5, width, cw), y: place(has ? focus.y + focus.height / 2 : 0.5, height, ch), width: cw, height: ch };
}

const clamp = (n: number, least: number, most: number) => Math.min(Math.max(n, least), most);
const fine = (n: number) => Math.round(n * 1000) / 1000;

/** The focus within the picture, and no smaller than can be seen. */
export function within(f: Focus): Focus {
  const width = clamp(f.width, 0.02, 1);
  const height = clamp(f.height, 0.02, 1);
  return { x: fine(clamp(f.x, 0, 1 - width)), y: fine(clamp(f.y, 0, 1 - height)), width: fine(width), height: fine(height) };
}

/** The address of a picture without the host: the console shows it from where it is itself. */
export function here(address: string | undefined): string {
  if (!address) return "";
  const u = new URL(address, "http://here");
  return u.pathname + u.search;
}

/** A number of bytes for people. */
export function bytesText(n: number): string {
  for (const [unit, size] of [["GB", 1e9], ["MB", 1e6], ["KB", 1e3]] as const) if (n >= size) return (n / size).toFixed(1) + " " + unit;
  return n + " B";
}
