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

function toggleSide(bench: Bench): void {
  bench.compare.toggled = !bench.compare.toggled;
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
  { key: "#", shown: "#", does: "wipe on or off", run: (b) => b.compare.choose("wipe") },
  { key: "-", shown: "−", does: "side by side on or off", run: (b) => b.compare.choose("beside") },
  { key: "t", shown: "T", does: "the other side, until pressed again", run: toggleSide },
  { key: "(", shown: "(", does: "lean the wipe to the left", run: (b) => b.compare.lean(-15) },
  { key: ")", shown: ")", does: "lean the wipe to the right", run: (b) => b.compare.lean(15) },
  { key: " ", shown: "Space", does: "play the loop, or stop", run: (b) => b.player.toggle() },
  { key: ",", shown: ",", does: "slower, then backwards", run: (b) => b.player.shuttle(-1) },
  { key: ".", shown: ".", does: "faster", run: (b) => b.player.shuttle(1) },
  { key: "1", shown: "1", does: "loop from this frame", run: (b) => b.player.from(b.n) },
  { key: "2", shown: "2", does: "loop to this frame", run: (b) => b.player.to(b.n) },
  { key: "l", shown: "L", does: "under the look or as it is", run: (b) => (b.looks.on = !b.looks.on) },
  { key: "s", shown: "S", does: "keep a still", run: (b) => void b.compare.keep() },
  { key: "+", shown: "+", does: "closer", run: (b) => zoomBy(b, 1) },
  { key: "0", shown: "0", does: "further away", run: (b) => zoomBy(b, -1) },
  { key: "9", shown: "9", does: "fit the window", run: (b) => (b.zoom = null) },
  { key: "n", shown: "N", does: "draw a patch", run: (b) => (b.drawing = !b.drawing) },
];

export const HOLD = {
  key: "y",
  shown: "Y",
  does: "hold to see the other side (the source, unless another is chosen)",
};

const SLIDER_KEYS = ["Arrow", "Page", "Home", "End"];

/** The field whose text is not taken yet: until it is, undo is the field's own. */
let unfinished: EventTarget | null = null;

/** Follow what is typed, by the `input` and `change` events of the page. */
export function edit(event: Event): void {
  unfinished = event.type === "input" ? event.target : null;
}

/** A slider that was dragged lets the keys go once the pointer does, so that arrows move frames again. */
export function letGo(): void {
  const held = document.activeElement;
  if (held instanceof HTMLElement && held.matches("input[type=range]")) setTimeout(() => held.blur());
}

function isUndo(event: KeyboardEvent): boolean {
  return (event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z";
}

/** Whether a key press belongs to a field that takes text or to a control of its own. */
function taken(event: KeyboardEvent): boolean {
  const target = event.target as HTMLElement;
  if (target.closest("dialog[open]")) return true;
  if (target.matches("input[type=checkbox]")) return false;
  if (target.matches("input[type=range]")) return SLIDER_KEYS.some((name) => event.key.startsWith(name));
  if (isUndo(event)) return target === unfinished;
  return target.matches("input, select, textarea");
}

export function press(event: KeyboardEvent, bench: Bench): void {
  if (taken(event)) return;
  if (isUndo(event)) {
    event.preventDefault();
    void bench.travel(event.shiftKey ? "redo" : "undo");
    return;
  }
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === " " && (event.target as HTMLElement).closest("button, a, summary, input")) return;
  if (event.key === HOLD.key) bench.compare.holding = true;
  const found = KEYS.find((k) => k.key === event.key);
  if (!found) return;
  event.preventDefault();
  found.run(bench);
}
