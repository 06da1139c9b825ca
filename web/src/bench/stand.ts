import type { ShotDetail, Version } from "../api/client";

/** Where one works: the shot, the version on the screen, the frame, and the middle of what is seen of it. */
export interface Stand {
  readonly shot?: ShotDetail;
  readonly version: Version | null;
  readonly n: number;
  centre: { x: number; y: number } | null;
}
