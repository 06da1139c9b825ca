import { SOURCE, type Side, type Version, type View } from "../api/client";
import type { Stand } from "./stand";

/** What decides which sides are on the screen. */
export interface Shown extends Stand {
  readonly shown: View;
  readonly own: { step: number; name: string };
  readonly reach: { step: number };
  readonly compare: { readonly frontSide: Side | null; readonly other: Side; swapped: boolean; mode: string };
}

/** The sides that are on the screen: one, or two to compare. */
export function sidesOf(bench: Shown): Side[] {
  const { compare } = bench;
  const main = mainSide(bench);
  if (compare.swapped) return [compare.other];
  return compare.mode === "alone" || nameOf(main) === nameOf(compare.other) ? [main] : [compare.other, main];
}

function mainSide(bench: Shown): Side {
  if (bench.compare.frontSide) return bench.compare.frontSide;
  if (bench.shown === "source" || !bench.version) return SOURCE;
  return versionSide(bench, bench.version, bench.shown);
}

function versionSide(bench: Shown, version: Version, view: Exclude<View, "source">): Side {
  const step = view === "own" ? bench.own.step : bench.reach.step;
  return { kind: "version", version, view, step, own: bench.own.name };
}

function nameOf(side: Side): string {
  if (side.kind === "still") return `still ${side.still.id}`;
  return side.kind === "source" ? "source" : `version ${side.version.id} ${side.view} ${side.own ?? ""}`;
}

/** Whether a coarse picture can stand in for it: what one step shows of itself has none. */
export function drafted(side: Side): boolean {
  return side.kind === "still" || (side.kind === "version" && side.view !== "reach" && side.view !== "own");
}
