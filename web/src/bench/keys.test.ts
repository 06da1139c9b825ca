import { expect, test } from "vitest";
import { HOLD, KEYS, nameOf } from "./keys";

test("digits are known by their place, letters by what they type, on any layout", () => {
  expect(nameOf({ key: "6", code: "Digit6" })).toBe("6");
  expect(nameOf({ key: "-", code: "Digit6" })).toBe("6"); // a French keyboard without Shift
  expect(nameOf({ key: "W", code: "KeyZ" })).toBe("w");
  expect(nameOf({ key: "Escape", code: "Escape" })).toBe("Escape");
});

test("no key does two things, and none is a sign", () => {
  const names = [HOLD, ...KEYS].map((key) => key.key);
  expect(new Set(names).size).toBe(names.length);
  expect(names.filter((name) => name.length === 1 && !/[a-z0-9 ]/.test(name))).toEqual([]);
});
