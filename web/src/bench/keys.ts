import { ZOOMS } from "../lib/geometry";
import type { Bench } from "./bench.svelte";

interface Key {
  /** What is pressed, as `KeyboardEvent.key` names it. */
  key: string;
  shown: string;
  does: string;
  run: (bench: Bench) => void;
}

function zoomBy(bench: Bench, direction: 1 | -1): void {
  const now = bench.zoom ?? 75;
  const next = direction > 0 ? ZOOMS.find((z) => z > now) : ZOOMS.findLast((z) => z < now);
  if (next !== undefined) bench.zoom = next;
}

/** One table: it drives the keyboard and writes the help. */
export const KEYS: Key[] = [
  { key: "ArrowLeft", shown: "←", does: "one frame back", run: (b) => b.go(b.n - 1) },
  { key: "ArrowRight", shown: "→", does: "one frame on", run: (b) => b.go(b.n + 1) },
  { key: "PageUp", shown: "Page ↑", does: "ten frames back", run: (b) => b.go(b.n - 10) },
  { key: "PageDown", shown: "Page ↓", does: "ten frames on", run: (b) => b.go(b.n + 10) },
  { key: "Home", shown: "Home", does: "first frame", run: (b) => b.go(0) },
  { key: "End", shown: "End", does: "last frame", run: (b) => b.go(Infinity) },
  { key: "6", shown: "6", does: "show the source", run: (b) => b.show("source") },
  { key: "7", shown: "7", does: "show the result", run: (b) => b.show("result") },
  { key: "8", shown: "8", does: "show what was removed", run: (b) => b.show("removed") },
  { key: "5", shown: "5", does: "show where a step acts", run: (b) => b.show("reach") },
  { key: "#", shown: "#", does: "wipe on or off", run: (b) => (b.wipe = b.wipe === null ? 0.5 : null) },
  { key: "+", shown: "+", does: "closer", run: (b) => zoomBy(b, 1) },
  { key: "-", shown: "−", does: "further away", run: (b) => zoomBy(b, -1) },
  { key: "9", shown: "9", does: "fit the window", run: (b) => (b.zoom = null) },
  { key: "n", shown: "N", does: "draw a patch", run: (b) => (b.drawing = !b.drawing) },
];

export const HOLD = { key: "y", shown: "Y", does: "hold to see the source" };

/** Whether a key press belongs to a field that takes text or to a control of its own. */
export function typing(event: KeyboardEvent): boolean {
  const target = event.target as HTMLElement;
  return (
    target.matches("input:not([type=checkbox]), select, textarea") || target.closest("dialog[open]") !== null
  );
}

export function press(event: KeyboardEvent, bench: Bench): void {
  if (typing(event)) return;
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z") {
    event.preventDefault();
    if (event.shiftKey) bench.redo();
    else bench.undo();
    return;
  }
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === HOLD.key) bench.holding = true;
  const found = KEYS.find((k) => k.key === event.key);
  if (!found) return;
  event.preventDefault();
  found.run(bench);
}
