const FULL_SCALE_CV = 1023;

/** 10-bit code values as percent of full scale. */
export function percentOfScale(cv: number): string {
  return `${((100 * cv) / FULL_SCALE_CV).toFixed(2)} %`;
}

/** A short number for a table: counts as they are, else two decimals below ten, one above. */
export function short(value: number): string {
  return Number.isInteger(value) ? String(value) : value.toFixed(Math.abs(value) < 10 ? 2 : 1);
}

/** A frame's place in time: number and seconds. */
export function frameTime(n: number, rate: string): string {
  return `frame ${n} · ${(n / ratioOf(rate)).toFixed(2)} s`;
}

/** A number from "24000/1001" or "24". */
export function ratioOf(text: string): number {
  const [over, under] = text.split("/").map(Number);
  return (over ?? 1) / (under ?? 1);
}

export function rateText(rate: string): string {
  const value = ratioOf(rate);
  return `${Number.isInteger(value) ? value : value.toFixed(3)} fps`;
}

interface Described {
  width: number;
  height: number;
  frames: number;
  rate: string;
  bit_depth: number;
  chroma: string;
  codec: string;
  pixel_aspect?: string;
}

/** One line of a shot's technical description. */
export function mediaLine(media: Described): string {
  const depth =
    media.chroma === "rgb" ? `${media.bit_depth}-bit RGB` : `${media.bit_depth}-bit ${media.chroma}`;
  const aspect = ratioOf(media.pixel_aspect ?? "1");
  const pixels = aspect === 1 ? "" : ` (pixels ${aspect.toFixed(2)} wide)`;
  return `${media.width}×${media.height}${pixels} · ${media.frames} frames · ${rateText(media.rate)} · ${media.codec} ${depth}`;
}

export function percent(share: number): string {
  return `${Math.round(100 * share)} %`;
}

/** Time left of work that began at `started` and has come so far; empty while that cannot be told. */
export function timeLeft(started: string | null, share: number, now = Date.now()): string {
  if (!started || share < 0.02 || share >= 1) return "";
  return `${about(((now - Date.parse(started)) / 1000) * (1 / share - 1))} left`;
}

/** Bytes as people read them: multiples of 1000, as disks are sold. */
export function bytesText(size: number): string {
  const units = ["bytes", "kB", "MB", "GB", "TB"];
  let unit = 0;
  for (; size >= 1000 && unit < units.length - 1; unit++) size /= 1000;
  return `${size >= 10 || !unit ? size.toFixed(0) : size.toFixed(1)} ${units[unit]}`;
}

/** A duration that is not known to the second. */
export function about(seconds: number): string {
  if (seconds < 90) return `about ${Math.max(Math.ceil(seconds), 1)} s`;
  if (seconds < 5400) return `about ${Math.round(seconds / 60)} min`;
  return `about ${(seconds / 3600).toFixed(1)} h`;
}
