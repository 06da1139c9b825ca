import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { closerQuery, pictureAddress, PLAIN, SOURCE, type Side, type Version } from "../api/client";
import { Bitmaps } from "./bitmaps";
import { wipeLine } from "./draw";
import { applying, choicesOf, controlsOf, numbersOf } from "./schema";

const version = { id: 7, key: "planA", matte_keys: ["m0", "m1"] } as unknown as Version;
const shot = { id: 3, picture_key: "engine+footage", look_key: "look" };

describe("a picture's address", () => {
  const of = (side: Side, look = false) =>
    new URL(`http://x${pictureAddress(shot, side, { n: 4, look })}`).searchParams;
  it("names engine, footage, plan and look, so that no other picture is shown for it", () => {
    expect(of(SOURCE).get("key")).toBe("engine+footage");
    const result = of({ kind: "version", version, view: "result", step: 1 }, true);
    expect([result.get("key"), result.get("version_id")]).toEqual(["engine+footageplanAlook", "7"]);
    const matte = of({ kind: "version", version, view: "reach", step: 1 });
    expect([matte.get("key"), matte.get("step")]).toEqual(["engine+footagem1", "1"]);
  });
  it("says how one looks closer only where that is not the plain way", () => {
    expect(closerQuery({ ...PLAIN })).toBe("");
    expect(closerQuery({ ...PLAIN, stress: 30 })).toBe("&stress=30");
  });
});

describe("pictures kept by the page", () => {
  let asked: string[] = [];
  let answer: (address: string) => Promise<Response>;
  beforeEach(() => {
    asked = [];
    answer = () => Promise.resolve(new Response(new Blob(["x"])));
    vi.stubGlobal("fetch", (address: string, about: { signal: AbortSignal }) => {
      asked.push(address);
      return new Promise<Response>((done, failed) => {
        about.signal.addEventListener("abort", () => failed(new Error("aborted")));
        answer(address).then(done, failed);
      });
    });
    vi.stubGlobal("createImageBitmap", () =>
      Promise.resolve({ width: 10, height: 10, close: () => undefined }),
    );
  });
  afterEach(() => vi.unstubAllGlobals());

  it("are fetched once, and the least recently used go first", async () => {
    const bitmaps = new Bitmaps(900); // two pictures of 400 bytes
    await bitmaps.want(["a", "b"], () => undefined);
    await bitmaps.want(["a", "b"], () => undefined);
    expect(asked).toEqual(["a", "b"]);
    bitmaps.have("a");
    await bitmaps.want(["c"], () => undefined);
    expect(["a", "b", "c"].map((name) => bitmaps.has(name))).toEqual([true, false, true]);
  });
  it("are no longer fetched when nobody wants them, but for those made ahead", async () => {
    const bitmaps = new Bitmaps();
    let ready: () => void = () => undefined;
    answer = (address) =>
      address === "new"
        ? Promise.resolve(new Response(new Blob(["x"])))
        : new Promise((done) => (ready = () => done(new Response(new Blob(["x"])))));
    const ahead = bitmaps.ahead(["later"]);
    const finish = ready;
    const old = bitmaps.want(["old"], () => undefined);
    await bitmaps.want(["new"], () => undefined);
    await old;
    finish();
    await ahead;
    expect(["old", "new", "later"].map((name) => bitmaps.has(name))).toEqual([false, true, true]);
  });
  it("leave out what has changed meanwhile and tell the server's own words for errors", async () => {
    const bitmaps = new Bitmaps();
    answer = () => Promise.resolve(new Response("{}", { status: 409 }));
    await bitmaps.want(["a"], () => undefined);
    expect(bitmaps.has("a")).toBe(false);
    answer = () => Promise.resolve(new Response('{"detail":"replaced on disk"}', { status: 422 }));
    await expect(bitmaps.want(["b"], () => undefined)).rejects.toThrow("replaced on disk");
  });
});

it("a wipe's line runs from edge to edge of the frame at any lean", () => {
  const lies = { scale: 2, offsetX: 10, offsetY: 20 };
  const frame = { width: 100, height: 50 };
  expect(wipeLine(0.5, 0, frame, lies)).toMatchObject({ x: 110, y: 70, span: 200 });
  expect(wipeLine(1, 0, frame, lies).x).toBe(210);
  expect(wipeLine(0, 90, frame, lies).y).toBeCloseTo(20);
});

it("controls are drawn from what the model says they are, in its order", () => {
  const properties = {
    luma: { control: "number", title: "Luma", unit: "%", minimum: 0, maximum: 200, step: 5, default: 100 },
    kind: { control: "choice", title: "Kind", enum: ["a", "b"], names: ["Plain", "Odd"], default: "b" },
    frames: { control: "number", unit: "frames" },
    linear: { control: "switch", default: true },
    tint: { control: "colour", unit: "CV", default: [512, 256, 0] },
    sun: { control: "point", unit: "px" },
  };
  const controls = controlsOf({ properties });
  expect(controls.map((c) => c.name)).toEqual(["luma", "frames"]);
  expect(controls[0]).toMatchObject({ least: 0, most: 200, standard: 100, unit: "%" });
  expect(controlsOf({})).toEqual([]);
  const method = { control: "choice", enum: ["a", "b"], default: "a" };
  const dependent = { properties: { method, size: { control: "number", only: { method: ["b"] } } } };
  expect(controlsOf(applying(dependent, {}))).toEqual([]);
  expect(controlsOf(applying(dependent, { method: "b" })).length).toBe(1);
  const choices = choicesOf({ properties });
  expect(choices.map((c) => [c.name, c.options.length, c.standard])).toEqual([
    ["kind", 2, "b"],
    ["linear", 0, true],
  ]);
  const several = numbersOf({ properties });
  expect(several.map((s) => [s.name, s.parts.join(""), s.standard])).toEqual([
    ["tint", "RGB", [512, 256, 0]],
    ["sun", "xy", [0, 0]],
  ]);
  expect(choices[0]?.options[1]).toEqual({ value: "b", title: "Odd" });
});
