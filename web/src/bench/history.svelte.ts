import type { Plan } from "../api/client";
import { keep, kept } from "../lib/kept";

/** What a version is called, and what is said of it. */
export interface Told {
  note: string;
  label: string;
}

/** What undo goes back to: the plan of a version, what it was called, or a version that was deleted. */
export interface Change {
  id: number;
  plan: Plan;
  told?: Told;
  deleted?: Told;
}

const MOST = 60;

/** Changes behind and ahead; they outlive a reload of the page. */
export class History {
  private stacks = $state<{ past: Change[]; future: Change[] }>({ past: [], future: [] });
  readonly canUndo = $derived(this.stacks.past.length > 0);
  readonly canRedo = $derived(this.stacks.future.length > 0);
  private readonly name: string;

  constructor(shotId: number) {
    this.name = `changes of shot ${shotId}`;
    this.stacks = kept(this.name, this.stacks);
  }

  /** Remember what a new change starts from; what was undone before is gone. */
  note(before: Change): void {
    this.put({ past: [...this.stacks.past, before].slice(-MOST), future: [] });
  }

  /** Take the last change back (or again), leaving what it goes away from for the way back. */
  travel(direction: "undo" | "redo"): Change | undefined {
    const { past, future } = this.stacks;
    const taken = (direction === "undo" ? past : future).at(-1);
    if (taken)
      this.put(
        direction === "undo" ? { past: past.slice(0, -1), future } : { past, future: future.slice(0, -1) },
      );
    return taken && ($state.snapshot(taken) as Change);
  }

  /** Note the way back from where `travel` went. */
  arrived(direction: "undo" | "redo", from: Change): void {
    const { past, future } = this.stacks;
    this.put(direction === "undo" ? { past, future: [...future, from] } : { past: [...past, from], future });
  }

  /** A version came back under another number. */
  renumber(old: number, id: number): void {
    const changed = (list: Change[]) =>
      list.map((change) => (change.id === old ? { ...change, id } : change));
    this.put({ past: changed(this.stacks.past), future: changed(this.stacks.future) });
  }

  private put(stacks: { past: Change[]; future: Change[] }): void {
    this.stacks = stacks;
    keep(this.name, $state.snapshot(stacks));
  }
}
