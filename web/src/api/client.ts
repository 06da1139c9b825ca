import { connection } from "../lib/connection.svelte";
import createClient from "openapi-fetch";
import type { Box } from "../lib/geometry";
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
export type Left = Schemas["LeftOut"];
export type Standing = Schemas["Standing"];
export type PatchBeforeAfter = Schemas["PatchBeforeAfter"];
export type Proposal = Schemas["ProposalOut"];
export type Wishes = Schemas["Wishes"];
export type Plan = Schemas["Plan"];
export type Step = Schemas["Step"];
export type Reach = Schemas["Reach"];
export type HueSample = Schemas["HueSample"];
export type Tones = Schemas["Tones"];
export type Detail = Schemas["Detail"];
export type Shape = Schemas["Shape"];
export type Strip = Schemas["Strip"];
export type Mark = Schemas["Mark"];
export type Course = Schemas["Course"];
export type Overwork = Schemas["Overwork"];
export type NoiseGroup = Schemas["NoiseGroupOut"];
export type Tuning = Schemas["Tuning"];
export type Preset = Schemas["PresetOut"];
export type Pixel = Schemas["Pixel"];
export type Version = Schemas["VersionOut"];
export type Still = Schemas["StillOut"];
export type StillWish = Schemas["StillIn"];
export type Look = Schemas["Look"];
export type Cdl = Schemas["Cdl"];
export type Lut = Schemas["LutOut"];
export type Correction = Schemas["Correction"];
export type NoiseUnderLook = Schemas["NoiseUnderLook"];
export type Management = Schemas["Choices"];
export type Managed = Schemas["Managed"];
export type ScopeAxes = Schemas["ScopeAxes"];
export type Histogram = Schemas["HistogramOut"];
export type Profile = Schemas["ProfileOut"];
export type ProfileFit = Schemas["ProfileFit"];
export type Treatment = Schemas["TreatmentOut"];
export type OutputFormat = Schemas["FormatOut"];
export type Render = Schemas["RenderOut"];
export type Timeline = Schemas["TimelineOut"];
export type Medium = Schemas["MediumOut"];
export type Cost = Schemas["Cost"];
export type Unpacked = Schemas["Unpacked"];
export type Wanted = Schemas["Wanted"];
export type DeliveryChoices = Schemas["DeliveryChoices"];
export type Dither = NonNullable<Schemas["RenderIn"]["dither"]>;
export type WorkEvent = Schemas["EventWork"];

export const api = createClient<paths>({ baseUrl: "/", fetch: (request) => connection.fetch(request) });

/** What was to be saved had been changed from elsewhere meanwhile. */
export class Changed extends Error {}

const CHANGED = 409;

/** The answer, or an error whose message is the server's one line for the user. */
export async function asked<T>(
  request: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  const { data, error, response } = await request;
  if (response.status === CHANGED) throw new Changed(lineOf(error, CHANGED));
  if (error !== undefined || !response.ok) throw new Error(lineOf(error, response.status));
  return data as T;
}

/** Send a file as it is and have the server's answer, typed by the caller. */
export async function sent<T>(address: string, file: File): Promise<T> {
  const answer = await connection.fetch(`${address}?name=${encodeURIComponent(file.name)}`, {
    method: "POST",
    body: file,
  });
  const told = (await answer.json()) as unknown;
  if (!answer.ok) throw new Error(lineOf(told, answer.status));
  return told as T;
}

function lineOf(error: unknown, status: number): string {
  if (error && typeof error === "object" && "detail" in error) return String(error.detail);
  return `The application reported an error (${status}).`;
}

export type View = "source" | "result" | "removed" | "reach" | "own";

/** What is on one side of a comparison: the source, a version's view, or a still. */
export type Side =
  | { kind: "source" }
  | { kind: "version"; version: Version; view: Exclude<View, "source">; step: number; own?: string }
  | { kind: "still"; still: Still };

export const SOURCE: Side = { kind: "source" };

/** Where on a frame, how large, and whether under the shot's look. */
export interface Place {
  n: number;
  region?: Box | null;
  scale?: number;
  look?: boolean;
}

/** What names the content of a version's view. */
function keyOf(version: Version, view: View, step: number): string {
  if (view === "reach") return version.matte_keys[step] ?? "";
  return view === "own" ? (version.view_keys[step] ?? "") : version.key;
}

/** What the frames of a side are, where it is not the source. */
export function formatOf(side: Side): Version["format"] {
  if (side.kind === "source") return null;
  return side.kind === "version" ? side.version.format : side.still.format;
}

/** Pixels of a side to one of the source, where it has more of them; a reduced picture is never asked for more. */
export function densityOf(side: Side): number {
  return Math.max(formatOf(side)?.per_pixel ?? 1, 1);
}

/** What names a place of a side to the server; equal texts are equal pictures. */
export function placeQuery(shot: PictureShot, side: Side, place: Place): URLSearchParams {
  const query = new URLSearchParams({ n: String(side.kind === "still" ? side.still.n : place.n) });
  let key = shot.picture_key;
  if (side.kind === "version") {
    query.set("version_id", String(side.version.id));
    key += keyOf(side.version, side.view, side.step);
  } else if (side.kind === "still") {
    query.set("still_id", String(side.still.id));
    key += side.still.key;
  }
  if (place.look) {
    query.set("look", "true");
    key += side.kind === "still" ? side.still.look_key : (shot.look_key ?? "");
  }
  if (place.region) {
    const { x, y, width, height } = place.region;
    query.set("region", [x, y, width, height].join(","));
  }
  query.set("key", key);
  return query;
}

/** The address of a picture; equal addresses are equal pictures. */
export function pictureAddress(shot: PictureShot, side: Side, place: Place): string {
  const query = placeQuery(shot, side, place);
  query.set("view", side.kind === "version" ? side.view : side.kind === "still" ? "result" : "source");
  if (side.kind === "version" && (side.view === "reach" || side.view === "own"))
    query.set("step", String(side.step));
  if (side.kind === "version" && side.view === "own") query.set("own", side.own ?? "");
  query.set("scale", Math.min(place.scale ?? 1, densityOf(side)).toFixed(5));
  return `/api/shots/${shot.id}/frame?${query}`;
}

interface PictureShot {
  id: number;
  picture_key: string;
  look_key?: string;
}

/** How the picture is looked at: one signal alone, contrast raised, what was removed amplified. */
export interface Closer {
  signal: "all" | "luma" | "chroma" | "r" | "g" | "b";
  stress: number;
  gain: number;
}

export const PLAIN: Closer = { signal: "all", stress: 0, gain: 8 };

/** The part of an address that asks for it; nothing for the plain way. */
export function closerQuery(closer: Closer): string {
  const changed = Object.entries(closer).filter(([name, value]) => value !== PLAIN[name as keyof Closer]);
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
