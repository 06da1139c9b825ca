import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Job = Schemas["JobOut"];
export type Shot = Schemas["ShotOut"];
export type ShotDetail = Schemas["ShotDetail"];
export type Survey = Schemas["SurveyReport"];
export type Finding = Schemas["Finding"];
export type FindingKind = Schemas["FindingKind"];
export type NoiseCurve = Schemas["NoiseCurve"];
export type SourceCheck = Schemas["SourceCheck"];
export type Patch = Schemas["Patch"];
export type PatchReading = Schemas["PatchReading"];
export type Remaining = Schemas["Remaining"];
export type Plan = Schemas["Plan"];
export type Step = Schemas["Step"];
export type Reach = Schemas["Reach"];
export type HueSample = Schemas["HueSample"];
export type Tones = Schemas["Tones"];
export type Detail = Schemas["Detail"];
export type Shape = Schemas["Shape"];
export type Strip = Schemas["Strip"];
export type Pixel = Schemas["Pixel"];
export type Version = Schemas["VersionOut"];
export type Profile = Schemas["ProfileOut"];
export type ProfileFit = Schemas["ProfileFit"];
export type Treatment = Schemas["TreatmentOut"];
export type OutputFormat = Schemas["FormatOut"];
export type Render = Schemas["RenderOut"];
export type WorkEvent = Schemas["EventWork"];

export const api = createClient<paths>({ baseUrl: "/" });

/** The answer, or an error whose message is the server's one line for the user. */
export async function asked<T>(
  request: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  const { data, error, response } = await request.catch(() => {
    throw new Error("The application does not answer. Is it still running?");
  });
  if (error !== undefined || !response.ok) throw new Error(lineOf(error, response.status));
  return data as T;
}

function lineOf(error: unknown, status: number): string {
  if (error && typeof error === "object" && "detail" in error) return String(error.detail);
  return `The application reported an error (${status}).`;
}

export type View = "source" | "result" | "removed" | "reach";

/** The address of a picture; equal addresses are equal pictures. `step` is whose matte the Reach view shows. */
export function pictureAddress(
  shot: { id: number; fingerprint: string },
  n: number,
  view: View,
  version: Version | null,
  region: { x: number; y: number; width: number; height: number } | null,
  scale: number,
  step = 0,
): string {
  const query = new URLSearchParams({ n: String(n), view, scale: scale.toFixed(5) });
  let key = shot.fingerprint.slice(0, 12);
  if (view !== "source" && version) {
    query.set("version_id", String(version.id));
    key += view === "reach" ? version.matte_keys[step] : version.key;
    if (view === "reach") query.set("step", String(step));
  }
  if (region) query.set("region", [region.x, region.y, region.width, region.height].join(","));
  query.set("key", key);
  return `/api/shots/${shot.id}/frame?${query}`;
}

/** How the picture is looked at: one signal alone, contrast raised, what was removed amplified. */
export interface Look {
  signal: "all" | "luma" | "chroma" | "r" | "g" | "b";
  stress: number;
  gain: number;
}

export const PLAIN: Look = { signal: "all", stress: 0, gain: 8 };

/** The part of an address that asks for a look; nothing for the plain one. */
export function lookQuery(look: Look): string {
  const changed = Object.entries(look).filter(([name, value]) => value !== PLAIN[name as keyof Look]);
  return changed.map(([name, value]) => `&${name}=${value}`).join("");
}

/** The address of the coarse picture that stands in until the exact one is there. */
export function draftOf(address: string): string {
  return `${address}&draft=true`;
}

/** Listen to a job's background work; returns a function that ends the listening. */
export function listen(jobId: number, tell: (event: WorkEvent) => void): () => void {
  const source = new EventSource(`/api/jobs/${jobId}/events`);
  source.onmessage = (message) => tell(JSON.parse(message.data) as WorkEvent);
  return () => source.close();
}
