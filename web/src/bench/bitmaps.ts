/** Pictures fetched by address: a few kept, requests nobody waits for cancelled. */
export class Bitmaps {
  private readonly kept = new Map<string, ImageBitmap>();
  private readonly running = new Map<string, AbortController>();

  constructor(private readonly most = 48) {}

  /** The picture, if it is here already. */
  have(address: string): ImageBitmap | undefined {
    const found = this.kept.get(address);
    if (found) {
      this.kept.delete(address);
      this.kept.set(address, found);
    }
    return found;
  }

  /** Fetch what is wanted now and drop every other request that still runs. */
  async want(addresses: string[], arrived: () => void): Promise<void> {
    for (const [address, control] of this.running)
      if (!addresses.includes(address)) {
        control.abort();
        this.running.delete(address);
      }
    const missing = addresses.filter((address) => !this.kept.has(address) && !this.running.has(address));
    await Promise.all(missing.map((address) => this.fetch(address, arrived)));
  }

  private async fetch(address: string, arrived: () => void): Promise<void> {
    const control = new AbortController();
    this.running.set(address, control);
    try {
      const answer = await fetch(address, { signal: control.signal });
      if (!answer.ok) throw new Error(((await answer.json()) as { detail: string }).detail);
      this.keep(address, await createImageBitmap(await answer.blob(), { colorSpaceConversion: "none" }));
      arrived();
    } catch (error) {
      if (!control.signal.aborted) throw error;
    } finally {
      if (this.running.get(address) === control) this.running.delete(address);
    }
  }

  private keep(address: string, bitmap: ImageBitmap): void {
    this.kept.set(address, bitmap);
    for (const [oldest, old] of this.kept) {
      if (this.kept.size <= this.most) break;
      this.kept.delete(oldest);
      old.close();
    }
  }
}
