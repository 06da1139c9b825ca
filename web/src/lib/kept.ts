/** What a browser tab remembers under a name; a full or missing store remembers nothing. */
export function keep(name: string, value: unknown): void {
  try {
    sessionStorage.setItem(name, JSON.stringify(value));
  } catch {
    sessionStorage.removeItem(name);
  }
}

export function kept<T>(name: string, otherwise: T): T {
  try {
    const text = sessionStorage.getItem(name);
    return text === null ? otherwise : (JSON.parse(text) as T);
  } catch {
    return otherwise;
  }
}
