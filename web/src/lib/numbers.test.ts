import { describe, expect, it } from "vitest";
import { frameTime, mediaLine, percentOfScale, ratioOf, rateText, short } from "./format";
import { boxBetween, fitScale, held, place, visible, ZOOMS } from "./geometry";
import { changedNumber } from "./changes";

describe("figures", () => {
  it("reads fractions, whole numbers and the standards' rates", () => {
    expect(ratioOf("24")).toBe(24);
    expect(ratioOf("60000/1001")).toBeCloseTo(59.94, 3);
    expect(ratioOf("4/3")).toBeCloseTo(1.3333, 4);
    expect([rateText("25"), rateText("24000/1001")]).toEqual(["25 fps", "23.976 fps"]);
  });
  it("shows as many digits as a figure bears", () => {
    expect(short(8)).toBe("8");
    expect([short(0.5), short(9.994), short(10.04), short(-12.34)]).toEqual([
      "0.50",
      "9.99",
      "10.0",
      "-12.3",
    ]);
    expect(percentOfScale(1023)).toBe("100.00 %");
    expect(frameTime(36, "24")).toBe("frame 36 · 1.50 s");
  });
  it("names pixels that are not square, and no others", () => {
    const media = {
      width: 720,
      height: 576,
      frames: 3,
      rate: "25",
      bit_depth: 8,
      chroma: "4:2:0",
      codec: "dv",
    };
    expect(mediaLine({ ...media, pixel_aspect: "16/15" })).toContain("720×576 (pixels 1.07 wide) · 3 frames");
    expect(mediaLine({ ...media, pixel_aspect: "1" })).toContain(
      "720×576 · 3 frames · 25 fps · dv 8-bit 4:2:0",
    );
  });
});

describe("where a frame lies", () => {
  const frame = { width: 1920, height: 1080 };
  const room = { width: 960, height: 800 };
  it("fits the narrower side", () => {
    expect(fitScale(frame, room)).toBe(0.5);
    expect(fitScale({ width: 10, height: 100 }, room)).toBe(8);
  });
  it("puts a point in the middle, on whole device pixels", () => {
    const lies = place(2, 100.3, 50.2, room);
    expect(lies).toEqual({ scale: 2, offsetX: 279, offsetY: 300 });
    expect(Number.isInteger(lies.offsetX)).toBe(true);
  });
  it("keeps the frame in view and centres what is smaller than the room", () => {
    expect(held(0, 1920, 960, 1)).toBe(480);
    expect(held(5000, 1920, 960, 1)).toBe(1440);
    expect(held(5, 400, 960, 1)).toBe(200);
  });
  it("sees a part that covers the room, on the grid, inside the frame", () => {
    for (const cx of [0, 517, 960, 1919]) {
      const lies = place(2, held(cx, 1920, room.width, 2), 540, room);
      const seen = visible(lies, room, frame, 64);
      expect(seen.x % 64).toBe(0);
      expect(seen.x).toBeGreaterThanOrEqual(0);
      expect(seen.x + seen.width).toBeLessThanOrEqual(1920);
      expect(seen.x * 2 + lies.offsetX).toBeLessThanOrEqual(0);
      expect((seen.x + seen.width) * 2 + lies.offsetX).toBeGreaterThanOrEqual(room.width);
    }
  });
  it("draws boxes from any corner and cuts them at the frame", () => {
    const box = { x: 4, y: 6, width: 16, height: 10 };
    expect(boxBetween({ x: 20.4, y: 5.6 }, { x: 3.8, y: 15.9 }, frame)).toEqual(box);
    expect(boxBetween({ x: -5, y: -5 }, { x: 9999, y: 9999 }, frame)).toEqual({ x: 0, y: 0, ...frame });
  });
  it("offers zooms that rise and hold 100 %", () => {
    expect(ZOOMS).toContain(100);
    expect(ZOOMS.toSorted((a, b) => a - b)).toEqual(ZOOMS);
  });
});

describe("what a slider changed", () => {
  const plan = { steps: [{ kind: "spatial", settings: { luma: 80 }, mix: 100 }] };
  it("is the path of one number, also of one that was left at its default", () => {
    const moved = structuredClone(plan);
    if (moved.steps[0]) moved.steps[0].settings.luma = 85;
    expect(changedNumber(plan, moved)).toBe("/steps/0/settings/luma");
    const added = { steps: [{ kind: "spatial", settings: { luma: 80, fine: 50 }, mix: 100 }] };
    expect(changedNumber(plan, added)).toBe("/steps/0/settings/fine");
  });
  it("is nothing when more changed, or when it is no number", () => {
    expect(changedNumber(plan, plan)).toBeNull();
    expect(changedNumber(plan, { steps: [] })).toBeNull();
    const two = { steps: [{ kind: "spatial", settings: { luma: 1 }, mix: 2 }] };
    expect(changedNumber(plan, two)).toBeNull();
  });
});
