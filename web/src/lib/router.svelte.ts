/** The address bar as state: path and query, changed without loading a page. */
class Router {
  path = $state(location.pathname);
  query = $state(new URLSearchParams(location.search));

  constructor() {
    addEventListener("popstate", () => this.read());
  }

  go(address: string): void {
    history.pushState(null, "", address);
    this.read();
  }

  /** Change the query without a new history entry: where one is looking, not where one is. */
  note(values: Record<string, string>): void {
    const all = { ...Object.fromEntries(new URLSearchParams(location.search)), ...values };
    history.replaceState(null, "", `${location.pathname}?${new URLSearchParams(all)}`);
  }

  private read(): void {
    this.path = location.pathname;
    this.query = new URLSearchParams(location.search);
  }
}

export const router = new Router();

/** A click on a link inside the application. */
export function follow(event: MouseEvent): void {
  if (event.metaKey || event.ctrlKey || event.shiftKey) return;
  const link = (event.currentTarget as HTMLElement).closest("a");
  if (!link) return;
  event.preventDefault();
  router.go(link.pathname + link.search);
}
