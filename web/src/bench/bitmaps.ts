import { connection } from "../lib/connection.svelte";
import type { Box } from "../lib/geometry";

/** What may be kept of decoded pictures: a loop of 48 frames, two sides, at 1920×1080 takes 800 MB. */
const MOST_BYTES = 1 << 30;

/** What is fetched ahead is less urgent than what is in view (RFC 9218, section 4.1). */
const AHEAD = { Priority: "u=6" };

/** A picture, and the area of the source's pixels that it covers. */
export interface Fetched {
  bitmap: ImageBitmap;
  area: Box | null;
}

/** Pictures fetched by address: kept while there is room, requests nobody waits for cancelled. */
export class Bitmaps {
  private readonly kept = new Map<string, Fetched>();
  private readonly running = new Map<string, { control: AbortController; done: Promise<void> }>();
  private readonly later = new Set<string>();
  private bytes = 0;

  constructor(private readonly most = MOST_BYTES) {}

  has(address: string): boolean {
    return this.kept.has(address);
  }

  /** The picture, if it is here already. */
  have(address: string): Fetched | undefined {
    const found = this.kept.get(address);
    if (found) {
      this.kept.delete(address);
      this.kept.set(address, found);
    }
    return found;
  }

  /** Fetch what is wanted now and drop every other request that still runs, but for those made ahead. */
  async want(addresses: string[], arrived: () => void): Promise<void> {
    for (const [address, request] of this.running)
      if (!addresses.includes(address) && !this.later.has(address)) {
        request.control.abort();
        this.running.delete(address);
      }
    const missing = addresses.filter((address) => !this.kept.has(address) && !this.running.has(address));
    await Promise.all(missing.map((address) => this.fetch(address, arrived)));
  }

  /** Fetch what will be wanted; what fails here is told when it is wanted. */
  async ahead(addresses: string[]): Promise<void> {
    const missing = addresses.filter((address) => !this.kept.has(address));
    missing.forEach((address) => this.later.add(address));
    await Promise.allSettled(
      missing.map(
        (address) => this.running.get(address)?.done ?? this.fetch(address, () => undefined, AHEAD),
      ),
    );
    missing.forEach((address) => this.later.delete(address));
  }

  private fetch(address: string, arrived: () => void, headers: HeadersInit = {}): Promise<void> {
    const control = new AbortController();
    const done = this.fetched(address, { signal: control.signal, headers }, control, arrived);
    this.running.set(address, { control, done });
    return done;
  }

  private async fetched(
    address: string,
    how: RequestInit,
    control: AbortController,
    arrived: () => void,
  ): Promise<void> {
    try {
      const answer = await connection.fetch(address, how);
      if (answer.status === CHANGED) return;
      if (!answer.ok) throw new Error(((await answer.json()) as { detail: string }).detail);
      const bitmap = await createImageBitmap(await answer.blob(), { colorSpaceConversion: "none" });
      this.keep(address, { bitmap, area: areaOf(answer.headers?.get("Picture-Area") ?? null) });
      arrived();
    } catch (error) {
      if (!control.signal.aborted) throw error;
    } finally {
      if (this.running.get(address)?.control === control) this.running.delete(address);
    }
  }

  private keep(address: string, fetched: Fetched): void {
    this.kept.set(address, fetched);
    this.bytes += sizeOf(fetched.bitmap);
    for (const [oldest, old] of this.kept) {
      if (this.bytes <= this.most || oldest === address) break;
      this.kept.delete(oldest);
      this.bytes -= sizeOf(old.bitmap);
      old.bitmap.close();
    }
  }
}

/** The plan or the look has changed since the picture was asked for; another one is on its way. */
const CHANGED = 409;

function areaOf(told: string | null): Box | null {
  const [x, y, width, height] = (told ?? "").split(",").map(Number);
  return x === undefined || y === undefined || !width || !height ? null : { x, y, width, height };
}

function sizeOf(bitmap: ImageBitmap): number {
  return bitmap.width * bitmap.height * 4;
}
