import type { Shot } from "../api/client";

/** Whether a shot is being measured, or waits for it. */
export function busy(shot: Shot): boolean {
  return shot.survey?.state === "queued" || shot.survey?.state === "running";
}

/** Whether a shot was told while its measuring came to an end: that it is done, but not yet what was found. */
export function lacksFindings(shot: Shot): boolean {
  return shot.survey?.state === "done" && !shot.findings;
}

/** How a shot stands, in a few words. */
export function stateOf(shot: Shot): string {
  if (shot.problem) return shot.problem;
  if (busy(shot)) return shot.survey?.state === "queued" ? "waiting to be measured" : "measuring";
  if (shot.survey?.state === "failed") return shot.survey.message;
  if (!shot.findings) return shot.survey?.state === "cancelled" ? "measuring was stopped" : "not measured";
  if (shot.render?.state === "running") return "rendering";
  if (shot.render?.state === "queued") return "waiting to be rendered";
  if (shot.render?.state === "failed") return shot.render.message;
  const inside = !shot.findings.some((finding) => finding.outside);
  if (shot.render?.state === "done") return inside ? "rendered, inside all tolerances" : "rendered";
  if (inside) return "inside all tolerances";
  return shot.versions.length ? `plan ${shot.versions.join(", ")}` : "no plan yet";
}
