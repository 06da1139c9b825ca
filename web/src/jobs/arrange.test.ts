import { expect, it } from "vitest";
import type { Shot, Standing } from "../api/client";
import { arranged, worst } from "./arrange";

function finding(kind: string, severity: number, outside: boolean): Standing {
  return {
    kind,
    value: 5,
    remaining: null,
    unit: "CV",
    tolerance: 4,
    outside,
    was_outside: outside,
    severity,
  };
}

function shot(name: string, findings: Standing[] | null, original = true): Shot {
  const source = { original, verdict: "", evidence: [] };
  return { id: 1, name, findings, source } as unknown as Shot;
}

const clean = shot("a", [finding("noise", 0.4, false), finding("banding", 0.9, false)]);
const noisy = shot("b", [finding("noise", 3, true), finding("banding", 0.2, false)]);
const banded = shot("c", [finding("noise", 0.9, false), finding("banding", 5, true)], false);
const unmeasured = shot("d", null);
const all = [clean, noisy, banded, unmeasured];
const names = (shots: Shot[]) => shots.map((s) => s.name).join("");

it("takes outside and severity as the server tells them, and reckons neither", () => {
  expect(all.map(worst)).toEqual([0, 3, 5, 0]);
  const odd = shot("odd", [{ ...finding("noise", 0.1, true), value: 0.1, tolerance: 99 }]);
  expect(worst(odd)).toBe(0.1);
});
it("sorts by the worst finding or by one kind, unmeasured shots last", () => {
  expect(names(arranged(all, "name", "all"))).toBe("abcd");
  expect(names(arranged(all, "worst", "all"))).toBe("cbad");
  expect(names(arranged(all, "noise", "all"))).toBe("bcad");
});
it("lets through what a filter names", () => {
  expect(names(arranged(all, "name", "outside"))).toBe("bc");
  expect(names(arranged(all, "name", "unmeasured"))).toBe("d");
  expect(names(arranged(all, "name", "source"))).toBe("c");
  expect(names(arranged(all, "name", "banding"))).toBe("c");
});
