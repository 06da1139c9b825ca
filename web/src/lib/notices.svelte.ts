import { Away } from "./connection.svelte";

interface Line {
  id: number;
  text: string;
  act?: () => void;
  /** What the button says that does it. */
  does: string;
}

/** Lines that the user has to see: errors above all. They stay until closed. */
class Notices {
  lines = $state<Line[]>([]);
  private next = 1;

  /** Say something; `act` takes back what is told of, or does what is offered. */
  tell(text: string, act?: () => void, does = "Undo"): void {
    if (!act && this.lines.some((line) => line.text === text)) return;
    this.lines.push({ id: this.next++, text, act, does });
  }

  close(id: number): void {
    this.lines = this.lines.filter((line) => line.id !== id);
  }

  /** Run something that may fail, and tell the user if it does. */
  async watch(work: () => Promise<void>): Promise<void> {
    try {
      await work();
    } catch (error) {
      // what is away is told by the page itself, and goes on once it is back
      if (!(error instanceof Away) && !(error instanceof DOMException && error.name === "AbortError"))
        this.tell(error instanceof Error ? error.message : String(error));
    }
  }
}

export const notices = new Notices();
