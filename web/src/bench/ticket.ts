import type { Finding, Step, Treatment } from "../api/client";

/** A line of the ticket: a finding with the steps that treat it, or a step that is one's own. */
export interface Line {
  finding?: Finding;
  /** Numbers of the steps that stand here. */
  steps: number[];
  /** Numbers of steps that stand elsewhere and serve this finding too. */
  served: number[];
}

/** What is open beside the picture: a step's settings, or what was measured of a finding. */
export type Opened = { step: number } | { finding: string };

/**
 * Findings and steps in one list, in the order of the plan. A step stands under the first finding that it treats,
 * followed by the others; what nothing treats stands where it would be treated, by the working order of `findings`.
 */
export function linesOf(findings: Finding[], steps: Step[], treatments: Treatment[]): Line[] {
  const ranks = steps.map((step) => {
    const kinds = treatments.find((t) => t.kind === step.kind)?.treats ?? [];
    return findings.flatMap((finding, rank) => (kinds.includes(finding.kind) ? [rank] : []));
  });
  const treated = new Set(ranks.flat());
  const lines = new Map<number, Line>();
  const ordered: Line[] = [];
  const lineOf = (rank: number): Line => {
    const known = lines.get(rank);
    if (known) return known;
    const line = { finding: findings[rank], steps: [], served: [] };
    lines.set(rank, line);
    ordered.push(line);
    return line;
  };
  ranks.forEach(([head, ...others], k) => {
    if (head === undefined) return void ordered.push({ steps: [k], served: [] });
    for (let rank = 0; rank < head; rank++) if (!treated.has(rank)) lineOf(rank);
    lineOf(head).steps.push(k);
    for (const rank of others) lineOf(rank).served.push(k);
  });
  findings.forEach((_, rank) => lineOf(rank));
  return ordered;
}
