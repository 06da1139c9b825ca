import { expect, test } from "vitest";
import type { Finding, Step, Treatment } from "../api/client";
import { linesOf } from "./ticket";

const findings = ["specks", "noise", "colour noise", "banding"].map((kind) => ({ kind }) as Finding);
const treatments = [
  { kind: "temporal", treats: ["noise", "colour noise"] },
  { kind: "bands", treats: ["banding"] },
  { kind: "grain", treats: [] as string[] },
] as Treatment[];

function told(...kinds: string[]): string[] {
  const steps = kinds.map((kind) => ({ kind }) as Step);
  return linesOf(findings, steps, treatments).map(
    (line) =>
      `${line.finding?.kind ?? "own"}:${line.steps.join()}${line.served.length ? ` by ${line.served.join()}` : ""}`,
  );
}

test("without a plan the findings stand in their working order", () => {
  expect(told()).toEqual(["specks:", "noise:", "colour noise:", "banding:"]);
});

test("a step stands once, under the first finding that it treats, and the others say by what they are served", () => {
  expect(told("temporal", "temporal", "grain")).toEqual([
    "specks:",
    "noise:0,1",
    "colour noise: by 0,1",
    "own:2",
    "banding:",
  ]);
});

test("the list follows the plan's order where that was changed", () => {
  expect(told("grain", "bands", "temporal")).toEqual([
    "own:0",
    "specks:",
    "banding:1",
    "noise:2",
    "colour noise: by 2",
  ]);
});
