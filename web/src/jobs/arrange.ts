import type { Shot } from "../api/client";

type ShotFinding = NonNullable<Shot["findings"]>[number];

/** How far the worst finding lies outside its tolerance; 0 where none does. */
export function worst(shot: Shot): number {
  return Math.max(0, ...(shot.findings ?? []).filter((f) => f.outside).map((f) => f.severity));
}

function of(shot: Shot, kind: string): ShotFinding | undefined {
  return shot.findings?.find((f) => f.kind === kind);
}

/** The shots that a filter lets through, in the order that was asked for. `sort` is "reel" (as they come), "name",
 *  "frames", "group" (of noise), "worst" or a kind of finding; `filter` is "all", "outside", "unmeasured", "source" or a kind that lies outside. */
export function arranged(
  shots: Shot[],
  sort: string,
  filter: string,
  groupOf: (shot: Shot) => number = () => 0,
): Shot[] {
  const passes = (shot: Shot): boolean => {
    if (filter === "all") return true;
    if (filter === "unmeasured") return !shot.findings;
    if (filter === "source") return shot.source?.original === false;
    if (filter === "outside") return worst(shot) > 0;
    return of(shot, filter)?.outside ?? false;
  };
  const weight = (shot: Shot): number => {
    if (sort === "worst") return worst(shot);
    if (sort === "frames") return shot.media.frames;
    const finding = of(shot, sort);
    return finding?.severity ?? -1;
  };
  const kept = shots.filter(passes);
  if (sort === "reel") return kept;
  if (sort === "group") return kept.toSorted((a, b) => groupOf(a) - groupOf(b));
  if (sort === "name") return kept.toSorted((a, b) => a.name.localeCompare(b.name));
  return kept.toSorted((a, b) => weight(b) - weight(a));
}
