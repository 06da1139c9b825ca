import { keep, kept } from "../lib/kept";
import type { Opened } from "./ticket";

export const EVIDENCE = ["Noise", "Scopes", "Look", "Overwork", "Stills"] as const;
export type EvidenceTab = (typeof EVIDENCE)[number];

const NAME = "bench-layout";

interface Layout {
  /** Whether the ticket stands beside the picture at all. */
  ticket: boolean;
  evidence: boolean;
  tab: EvidenceTab;
}

/** Which panels of the Bench are open; remembered, save what is open of a shot. */
export class LayoutDesk {
  private now = $state<Layout>({
    ticket: true,
    evidence: true,
    tab: "Noise",
    ...kept<Partial<Layout>>(NAME, {}, localStorage),
  });
  /** The line whose settings stand between the ticket and the picture. */
  opened = $state<Opened | null>(null);

  get ticket(): boolean {
    return this.now.ticket;
  }

  get evidence(): boolean {
    return this.now.evidence;
  }

  get tab(): EvidenceTab {
    return this.now.tab;
  }

  set = (part: Partial<Layout>): void => {
    Object.assign(this.now, part);
    keep(NAME, $state.snapshot(this.now), localStorage);
  };

  isOpen(what: Opened): boolean {
    const open = this.opened;
    if (!open) return false;
    return "step" in what
      ? "step" in open && open.step === what.step
      : "finding" in open && open.finding === what.finding;
  }

  toggle(what: Opened): void {
    this.opened = this.isOpen(what) ? null : what;
  }
}
