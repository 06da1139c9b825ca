/** What a browser tab remembers under a name, or the browser in its `localStorage`; a full or missing store remembers
 * nothing. */
export function keep(name: string, value: unknown, store: Storage = sessionStorage): void {
  try {
    store.setItem(name, JSON.stringify(value));
  } catch {
    store.removeItem(name);
  }
}

export function kept<T>(name: string, otherwise: T, store: Storage = sessionStorage): T {
  try {
    const text = store.getItem(name);
    return text === null ? otherwise : (JSON.parse(text) as T);
  } catch {
    return otherwise;
  }
}
