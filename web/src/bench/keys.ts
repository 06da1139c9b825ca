import { ZOOMS } from "../lib/geometry";
import type { Bench } from "./bench.svelte";

/** What keys are for, in the order of the help. */
export const PURPOSES = [
  "Frames",
  "Playing",
  "What is shown",
  "Comparing",
  "Looking closer",
  "Panels",
] as const;

interface Key {
  /** What is pressed, as `nameOf` names it. */
  key: string;
  shown: string;
  for: (typeof PURPOSES)[number];
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

/** One table: it drives the keyboard and writes the help. Letters and digits alone, since signs lie elsewhere on
 * every keyboard layout. */
export const KEYS: Key[] = [
  { key: "ArrowLeft", shown: "←", for: "Frames", does: "one back", run: (b) => b.go(b.n - 1) },
  { key: "ArrowRight", shown: "→", for: "Frames", does: "one on", run: (b) => b.go(b.n + 1) },
  { key: "PageUp", shown: "Page ↑", for: "Frames", does: "ten back", run: (b) => b.go(b.n - 10) },
  { key: "PageDown", shown: "Page ↓", for: "Frames", does: "ten on", run: (b) => b.go(b.n + 10) },
  { key: "Home", shown: "Home", for: "Frames", does: "the first", run: (b) => b.go(0) },
  { key: "End", shown: "End", for: "Frames", does: "the last", run: (b) => b.go(Infinity) },
  { key: " ", shown: "Space", for: "Playing", does: "play the loop, or stop", run: (b) => b.player.toggle() },
  { key: "d", shown: "D", for: "Playing", does: "slower, then backwards", run: (b) => b.player.shuttle(-1) },
  { key: "f", shown: "F", for: "Playing", does: "faster", run: (b) => b.player.shuttle(1) },
  { key: "1", shown: "1", for: "Playing", does: "loop from this frame", run: (b) => b.player.from(b.n) },
  { key: "2", shown: "2", for: "Playing", does: "loop to this frame", run: (b) => b.player.to(b.n) },
  { key: "5", shown: "5", for: "What is shown", does: "where a step acts", run: (b) => b.show("reach") },
  { key: "6", shown: "6", for: "What is shown", does: "the source", run: (b) => b.show("source") },
  { key: "7", shown: "7", for: "What is shown", does: "the result", run: (b) => b.show("result") },
  { key: "8", shown: "8", for: "What is shown", does: "what was removed", run: (b) => b.show("removed") },
  {
    key: "l",
    shown: "L",
    for: "What is shown",
    does: "under the look or as it is",
    run: (b) => (b.looks.on = !b.looks.on),
  },
  { key: "w", shown: "W", for: "Comparing", does: "wipe on or off", run: (b) => b.compare.choose("wipe") },
  {
    key: "b",
    shown: "B",
    for: "Comparing",
    does: "side by side on or off",
    run: (b) => b.compare.choose("beside"),
  },
  { key: "t", shown: "T", for: "Comparing", does: "the other side, until pressed again", run: toggleSide },
  {
    key: "g",
    shown: "G",
    for: "Comparing",
    does: "lean the wipe to the left",
    run: (b) => b.compare.lean(-15),
  },
  {
    key: "h",
    shown: "H",
    for: "Comparing",
    does: "lean the wipe to the right",
    run: (b) => b.compare.lean(15),
  },
  { key: "s", shown: "S", for: "Comparing", does: "keep a still", run: (b) => void b.compare.keep() },
  { key: "i", shown: "I", for: "Looking closer", does: "closer", run: (b) => zoomBy(b, 1) },
  { key: "o", shown: "O", for: "Looking closer", does: "further away", run: (b) => zoomBy(b, -1) },
  { key: "9", shown: "9", for: "Looking closer", does: "fit the window", run: (b) => (b.zoom = null) },
  {
    key: "n",
    shown: "N",
    for: "Looking closer",
    does: "draw a patch",
    run: (b) => (b.drawing = !b.drawing),
  },
  {
    key: "e",
    shown: "E",
    for: "Panels",
    does: "fold or show the evidence",
    run: (b) => b.layout.set({ evidence: !b.layout.evidence }),
  },
  {
    key: "u",
    shown: "U",
    for: "Panels",
    does: "fold or show ticket and evidence",
    run: (b) => b.layout.set({ ticket: !b.layout.ticket }),
  },
  {
    key: "Escape",
    shown: "Esc",
    for: "Panels",
    does: "put the test strip away, or fold the settings",
    run: (b) => (b.strip.control ? b.strip.close() : (b.layout.opened = null)),
  },
];

export const HOLD = {
  key: "y",
  shown: "Y",
  for: "Comparing",
  does: "hold to see the other side (the source, unless another is chosen)",
} as const;

/** A pressed key's name: a digit wherever the layout has it, with or without Shift; else what it types. */
export function nameOf(event: Pick<KeyboardEvent, "key" | "code">): string {
  const digit = /^(?:Digit|Numpad)(\d)$/.exec(event.code)?.[1];
  return digit ?? (event.key.length === 1 ? event.key.toLowerCase() : event.key);
}

const SLIDER_KEYS = ["Arrow", "Page", "Home", "End"];

/** The field whose text is not taken yet: until it is, undo is the field's own. */
let unfinished: EventTarget | null = null;

/** Follow what is typed, by the `input` and `change` events of the page. */
export function edit(event: Event): void {
  unfinished = event.type === "input" ? event.target : null;
}

/** The slider that was dragged last, as long as it still has the focus. */
let dragged: Element | null = null;

/** A slider that was dragged lets the keys go once the pointer does, so that arrows move frames again. */
export function letGo(): void {
  const held = document.activeElement;
  dragged = held?.matches("input[type=range]") ? held : null;
  if (held instanceof HTMLElement && dragged)
    setTimeout(() => {
      held.blur();
      dragged = null;
    });
}

function isUndo(event: KeyboardEvent): boolean {
  return (event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z";
}

/** Whether a key press belongs to a field that takes text or to a control of its own. */
function taken(event: KeyboardEvent): boolean {
  const target = event.target as HTMLElement;
  if (target.closest("dialog[open]")) return true;
  if (target.matches("input[type=checkbox]")) return false;
  if (target.matches("input[type=range]"))
    return target !== dragged && SLIDER_KEYS.some((name) => event.key.startsWith(name));
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
  const name = nameOf(event);
  if (name === " " && (event.target as HTMLElement).closest("button, a, summary, input")) return;
  if (name === HOLD.key) bench.compare.holding = true;
  const found = KEYS.find((k) => k.key === name);
  if (!found) return;
  event.preventDefault();
  found.run(bench);
}
