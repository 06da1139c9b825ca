import type { Look, Plan, Still } from "../api/client";
import { keep, kept } from "../lib/kept";

/** What a version is called, and what is said of it. */
export interface Told {
  note: string;
  label: string;
}

/** All that a still is made of, so that it can be kept again. */
export type StillContent = Pick<Still, "n" | "name" | "label" | "plan" | "look">;

/**
 * What undo goes back to. A "version" or a "still" that is there was made and goes; one that is not was deleted
 * and comes back.
 */
export type Change =
  | { what: "plan"; id: number; plan: Plan }
  | { what: "told"; id: number; told: Told }
  | { what: "version"; id: number; plan: Plan; told: Told }
  | { what: "look"; look: Look }
  | { what: "still"; id: number; still: StillContent };

export type Direction = "undo" | "redo";

const MOST = 60;
/** Changes of one number that follow one another as quickly are one drag, and one undo. */
const ONE_CHANGE_MS = 800;

/** Changes behind and ahead; they outlive a reload of the page. */
export class History {
  private stacks = $state<{ past: Change[]; future: Change[] }>({ past: [], future: [] });
  readonly canUndo = $derived(this.stacks.past.length > 0);
  readonly canRedo = $derived(this.stacks.future.length > 0);
  private readonly name: string;
  private last: { number: string | null; at: number } = { number: null, at: 0 };

  constructor(shotId: number) {
    this.name = `undo of shot ${shotId}`;
    this.stacks = kept(this.name, this.stacks);
  }

  /**
   * Remember what a new change starts from; what was undone before is gone. `number` names the one number that
   * changes, where it is one: its next change soon after belongs to the same drag.
   */
  note(before: Change, number: string | null = null): void {
    const dragged =
      number !== null && number === this.last.number && Date.now() - this.last.at < ONE_CHANGE_MS;
    this.last = { number, at: Date.now() };
    if (!dragged) this.put({ past: [...this.stacks.past, before].slice(-MOST), future: [] });
  }

  /** Take the last change back (or again), leaving what it goes away from for the way back. */
  travel(direction: Direction): Change | undefined {
    const { past, future } = this.stacks;
    const taken = (direction === "undo" ? past : future).at(-1);
    if (taken)
      this.put(
        direction === "undo" ? { past: past.slice(0, -1), future } : { past, future: future.slice(0, -1) },
      );
    this.last = { number: null, at: 0 };
    return taken && ($state.snapshot(taken) as Change);
  }

  /** Note the way back from where `travel` went. */
  arrived(direction: Direction, from: Change): void {
    const { past, future } = this.stacks;
    this.put(direction === "undo" ? { past, future: [...future, from] } : { past: [...past, from], future });
  }

  /** A version or a still came back under another number. */
  renumber(of: "version" | "still", old: number, id: number): void {
    const means = (change: Change) =>
      "id" in change && change.id === old && (change.what === "still") === (of === "still");
    const changed = (list: Change[]) => list.map((change) => (means(change) ? { ...change, id } : change));
    this.put({ past: changed(this.stacks.past), future: changed(this.stacks.future) });
  }

  private put(stacks: { past: Change[]; future: Change[] }): void {
    this.stacks = stacks;
    keep(this.name, $state.snapshot(stacks));
  }
}
