import { closerQuery, draftOf, pictureAddress, type Closer, type Side } from "../api/client";
import { connection } from "../lib/connection.svelte";
import type { Box } from "../lib/geometry";
import { notices } from "../lib/notices.svelte";
import { Bitmaps, type Fetched } from "./bitmaps";
import type { Player } from "./player.svelte";
import { drafted } from "./sides";
import type { Stand } from "./stand";

/** What it knows of the Bench. */
type Known = Stand & {
  readonly looks: { readonly on: boolean };
  readonly closer: Closer;
  readonly player: Player;
  computing: boolean;
};

/** What is asked for: sides, the part of the frame, and pixels to one of the source. */
interface Wanted {
  readonly sides: Side[];
  readonly region: Box | null;
  readonly scale: number;
}

/** An exact picture that takes longer than this gets a coarse one shown before it. */
const DRAFT_AFTER_MS = 250;

/** Fetches the pictures that are on the screen, coarse ones before slow ones, and a loop's ahead. */
export class Fetching {
  private readonly bitmaps = new Bitmaps();
  /** Counts the pictures that came. */
  arrivals = $state(0);
  /** What was shown last, and what of. */
  private before: { same: string; pictures: (Fetched | undefined)[] } | null = null;

  constructor(
    private readonly bench: Known,
    private readonly wanted: () => Wanted,
  ) {}

  readonly addresses = $derived.by(() => this.addressesAt(this.bench.n));

  addressesAt(n: number): string[] {
    const { region, scale } = this.wanted();
    return this.addressesIn(n, region, scale);
  }

  private addressesIn(n: number, region: Box | null, scale: number): string[] {
    const { shot, looks, closer } = this.bench;
    if (!shot) return [];
    const where = { n, region, scale, look: looks.on };
    return this.wanted().sides.map((side) => pictureAddress(shot, side, where) + closerQuery(closer));
  }

  /** Whether an exact picture is still on its way. */
  get waiting(): boolean {
    return this.addresses.some((address) => !this.bitmaps.has(address));
  }

  /** The pictures as far as they are here, coarse where the exact one is not; while a window is resized, those
   * that were shown before. */
  get pictures(): (Fetched | undefined)[] {
    const found = this.addresses.map(
      (address) => this.bitmaps.have(address) ?? this.bitmaps.have(draftOf(address)),
    );
    const same = this.addressesIn(this.bench.n, null, 1).join(" ");
    if (found.every((picture) => picture !== undefined)) this.before = { same, pictures: found };
    else if (this.before?.same === same) return this.before.pictures;
    return found;
  }

  /** Whether a frame can be shown, if only coarsely. */
  here(n: number): boolean {
    return this.addressesAt(n).every(
      (address) => this.bitmaps.has(address) || this.bitmaps.has(draftOf(address)),
    );
  }

  private get coarseServes(): boolean {
    return this.wanted().sides.every((side) => side.kind === "source" || drafted(side));
  }

  /** Fetch what is shown; drafts follow where that takes long. Gives the way to call the drafts off. */
  fetch(): () => void {
    const { addresses } = this;
    // A loop that plays is fetched ahead; what it shows meanwhile is not asked for frame by frame.
    if (this.bench.player.playing && this.here(this.bench.n)) return () => undefined;
    if (connection.away) return () => undefined; // asked for again once it is back
    this.bench.computing = this.waiting;
    this.want(addresses);
    if (!this.coarseServes) return () => undefined;
    const later = setTimeout(() => {
      if (this.waiting) this.want([...addresses, ...addresses.map(draftOf)]);
    }, DRAFT_AFTER_MS);
    return () => clearTimeout(later);
  }

  /** Fetch the range of the loop ahead, for the pictures that are shown now. */
  fill(): void {
    const exact = (n: number) => this.addressesAt(n);
    const coarse = this.coarseServes ? (n: number) => exact(n).map(draftOf) : null;
    void this.bench.player.fill(this.bitmaps, exact, coarse, () => this.arrivals++);
  }

  private want(addresses: string[]): void {
    void notices
      .watch(() => this.bitmaps.want(addresses, () => this.arrivals++))
      .then(() => (this.bench.computing = this.waiting));
  }
}
