import { expect, it, vi } from "vitest";
import type { Job, Shot, WorkEvent } from "../api/client";
import { Jobs } from "./jobs.svelte";

const answers: ((shots: Shot[]) => void)[] = [];
let tell: (event: WorkEvent) => void;

vi.mock("../api/client", () => ({
  api: { GET: () => new Promise((answer) => answers.push(answer)) },
  asked: (answer: unknown) => answer,
  listen: (_: number, hear: typeof tell) => {
    tell = hear;
    return () => undefined;
  },
}));
vi.mock("../lib/router.svelte", () => ({ router: {} }));
vi.mock("../lib/kept", () => ({ kept: (_: string, usual: string) => usual }));

const shot = (state: string, findings: Shot["findings"] = null) =>
  ({ id: 7, survey: { id: 3, state }, findings }) as Shot;
const done = { kind: "survey", id: 3, shot_id: 7, state: "done" } as WorkEvent;
const settled = () => new Promise((resume) => setTimeout(resume));

async function opened(first: Shot): Promise<Jobs> {
  answers.length = 0;
  const jobs = new Jobs(() => 1);
  [jobs.all, jobs.shotsOf] = [[{ id: 1, shots: 1 } as Job], 1];
  void jobs.loadShots(1);
  answers[0]?.([first]);
  await settled();
  jobs.follow(1);
  return jobs;
}

it("asks again for a shot that was told between its findings and the end of its measuring", async () => {
  const jobs = await opened(shot("done"));
  tell(done);
  answers[1]?.([shot("done", [])]);
  await settled();
  expect(jobs.shots[0]?.findings).toEqual([]);
  tell(done);
  expect(answers.length).toBe(2);
});

it("keeps to the answer that was asked for last, whichever comes last", async () => {
  const jobs = await opened(shot("running"));
  void jobs.loadShots(1);
  tell(done);
  answers[2]?.([shot("done", [])]);
  await settled();
  answers[1]?.([shot("running")]);
  await settled();
  expect(jobs.shots[0]?.survey?.state).toBe("done");
});
