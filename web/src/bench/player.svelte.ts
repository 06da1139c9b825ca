import { SvelteSet } from "svelte/reactivity";
import { ratioOf } from "../lib/format";
import { clamp } from "../lib/geometry";
import type { Bitmaps } from "./bitmaps";
import type { Stand } from "./stand";

/** Frames of a loop unless its ends are set. */
const USUAL_LOOP = 48;
const SPEEDS = [-4, -2, -1, -0.5, 0.5, 1, 2, 4];

/** What it knows of the Bench. */
type Known = Pick<Stand, "shot" | "n"> & { go(n: number): void };

/** Plays a range of frames in a loop, all sides of a frame in one drawing, and fetches them ahead. */
export class Player {
  playing = $state(false);
  speed = $state(1);
  first = $state<number | null>(null);
  last = $state<number | null>(null);
  /** Frames of the range that are here in every picture that is shown. */
  readonly ready = new SvelteSet<number>();
  /** Frames of the range that can be shown coarsely so far. */
  readonly coarse = new SvelteSet<number>();
  /** Frames that were not there in time while playing. */
  missed = $state(0);
  private filling = 0;

  constructor(private readonly bench: Known) {}

  private get frames(): number {
    return this.bench.shot?.media.frames ?? 1;
  }

  /** The range, both ends included. */
  get range(): { first: number; last: number } {
    const first =
      this.first ?? clamp(this.bench.n - USUAL_LOOP / 2, 0, Math.max(this.frames - USUAL_LOOP, 0));
    return { first, last: clamp(this.last ?? first + USUAL_LOOP - 1, first, this.frames - 1) };
  }

  get shown(): boolean {
    return this.first !== null;
  }

  from(n: number): void {
    this.first = n;
    if (this.last !== null && this.last < n) this.last = null;
  }

  to(n: number): void {
    this.last = n;
    this.first = Math.min(this.first ?? this.range.first, n);
  }

  /** The range is given up: nothing is fetched ahead any more. */
  clear(): void {
    this.playing = false;
    this.first = this.last = null;
    this.filling++;
    this.ready.clear();
    this.coarse.clear();
  }

  /** Play, or stop where it is. */
  toggle(): void {
    if (!this.playing) {
      const { first, last } = this.range;
      [this.first, this.last] = [first, last];
    }
    this.playing = !this.playing;
  }

  /** One notch faster, or slower and then backwards. */
  shuttle(by: 1 | -1): void {
    const at = SPEEDS.indexOf(this.speed) + by;
    this.speed = SPEEDS[clamp(at, 0, SPEEDS.length - 1)] ?? 1;
    if (!this.playing) this.toggle();
  }

  /** Fetch the range from the playhead on, all of it coarsely first where pictures have a coarse one; a later call,
   * or one for other pictures, takes over. */
  async fill(
    bitmaps: Bitmaps,
    exact: (n: number) => string[],
    coarse: ((n: number) => string[]) | null,
    arrived: () => void,
  ): Promise<void> {
    const turn = ++this.filling;
    const { first, last } = this.range;
    const count = last - first + 1;
    const start = clamp(this.bench.n, first, last) - first;
    const order = Array.from({ length: count }, (_, k) => first + ((start + k) % count));
    for (const [addressesAt, there] of [
      [exact, this.ready],
      [coarse, this.coarse],
    ] as const) {
      there.clear();
      for (const n of order) if (addressesAt?.(n).every((address) => bitmaps.has(address))) there.add(n);
    }
    for (const [addressesAt, there] of [
      [coarse, this.coarse],
      [exact, this.ready],
    ] as const)
      for (const n of addressesAt ? order : []) {
        if (turn !== this.filling) return;
        if (!addressesAt || there.has(n) || this.ready.has(n)) continue;
        await bitmaps.ahead(addressesAt(n));
        if (turn !== this.filling) return;
        if (addressesAt(n).every((address) => bitmaps.has(address))) {
          there.add(n);
          arrived();
        }
      }
  }

  /** Run until it is stopped: the frame that is due is shown once it is here, and time waits for it. */
  run(here: (n: number) => boolean): () => void {
    const rate = ratioOf(this.bench.shot?.media.rate ?? "24") * this.speed;
    const { first, last } = this.range;
    const count = last - first + 1;
    let origin = { at: performance.now(), n: clamp(this.bench.n, first, last) - first };
    this.missed = 0;
    let request = requestAnimationFrame(tick.bind(this));
    function tick(this: Player, now: number): void {
      const passed = Math.floor(((now - origin.at) * rate) / 1000);
      const due = first + ((((origin.n + passed) % count) + count) % count);
      if (here(due)) {
        if (due !== this.bench.n) this.bench.go(due);
      } else {
        if (due !== this.bench.n) this.missed++;
        origin = { at: now, n: this.bench.n - first };
      }
      request = requestAnimationFrame(tick.bind(this));
    }
    return () => cancelAnimationFrame(request);
  }
}
