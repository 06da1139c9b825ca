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

  constructor(
    private readonly bench: Known,
    private readonly wanted: () => Wanted,
  ) {}

  readonly addresses = $derived.by(() => this.addressesAt(this.bench.n));

  addressesAt(n: number): string[] {
    const { shot, looks, closer } = this.bench;
    if (!shot) return [];
    const { sides, region, scale } = this.wanted();
    const where = { n, region, scale, look: looks.on };
    return sides.map((side) => pictureAddress(shot, side, where) + closerQuery(closer));
  }

  /** Whether an exact picture is still on its way. */
  get waiting(): boolean {
    return this.addresses.some((address) => !this.bitmaps.has(address));
  }

  /** The pictures as far as they are here, coarse where the exact one is not. */
  get pictures(): (Fetched | undefined)[] {
    return this.addresses.map((address) => this.bitmaps.have(address) ?? this.bitmaps.have(draftOf(address)));
  }

  here(n: number): boolean {
    return this.addressesAt(n).every((address) => this.bitmaps.has(address));
  }

  /** Fetch what is shown; drafts follow where that takes long. Gives the way to call the drafts off. */
  fetch(): () => void {
    const { addresses } = this;
    if (connection.away) return () => undefined; // asked for again once it is back
    this.bench.computing = this.waiting;
    this.want(addresses);
    if (!this.wanted().sides.every((side) => side.kind === "source" || drafted(side))) return () => undefined;
    const later = setTimeout(() => {
      if (this.waiting) this.want([...addresses, ...addresses.map(draftOf)]);
    }, DRAFT_AFTER_MS);
    return () => clearTimeout(later);
  }

  /** Fetch the range of the loop ahead, for the pictures that are shown now. */
  fill(): void {
    const at = (n: number) => this.addressesAt(n);
    void this.bench.player.fill(this.bitmaps, at, () => this.arrivals++);
  }

  private want(addresses: string[]): void {
    void notices
      .watch(() => this.bitmaps.want(addresses, () => this.arrivals++))
      .then(() => (this.bench.computing = this.waiting));
  }
}
