import { afterEach, beforeEach, expect, it, vi } from "vitest";
import type { Plan } from "../api/client";
import { History, type Change } from "./history.svelte";

const plan = (luma: number): Change => ({
  what: "plan",
  id: 1,
  plan: { steps: [{ luma }] } as unknown as Plan,
});
const stored = new Map<string, string>();

beforeEach(() => {
  vi.useFakeTimers();
  stored.clear();
  vi.stubGlobal("sessionStorage", {
    getItem: (name: string) => stored.get(name) ?? null,
    setItem: (name: string, text: string) => stored.set(name, text),
    removeItem: (name: string) => stored.delete(name),
  });
});
afterEach(() => {
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

it("goes back and forth, and a new change ends the way forth", () => {
  const history = new History(1);
  history.note(plan(1));
  history.note(plan(2));
  expect(history.travel("undo")).toEqual(plan(2));
  history.arrived("undo", plan(3));
  expect(history.travel("redo")).toEqual(plan(3));
  history.arrived("redo", plan(2));
  history.travel("undo");
  history.arrived("undo", plan(3));
  history.note(plan(9));
  expect(history.travel("redo")).toBeUndefined();
});
it("takes one drag for one change, and two drags for two", () => {
  const history = new History(2);
  history.note(plan(1), "luma");
  vi.advanceTimersByTime(100);
  history.note(plan(2), "luma");
  history.note(plan(3), "chroma");
  vi.advanceTimersByTime(2000);
  history.note(plan(4), "chroma");
  const back = [
    history.travel("undo"),
    history.travel("undo"),
    history.travel("undo"),
    history.travel("undo"),
  ];
  expect(back).toEqual([plan(4), plan(3), plan(1), undefined]);
});
it("outlives a reload, and follows a version that came back under another number", () => {
  new History(3).note(plan(1));
  const again = new History(3);
  again.renumber("version", 1, 8);
  expect(again.travel("undo")).toMatchObject({ what: "plan", id: 8 });
  expect(new History(4).travel("undo")).toBeUndefined();
});
