/** Where two documents differ: the paths of their leaves, and whether a number (or a default) became one. */
function differences(a: unknown, b: unknown, path: string): { path: string; numbers: boolean }[] {
  if (a === b) return [];
  if (typeof a !== "object" || typeof b !== "object" || a === null || b === null)
    return [{ path, numbers: (typeof a === "number" || a === undefined) && typeof b === "number" }];
  const [from, to] = [a as Record<string, unknown>, b as Record<string, unknown>];
  const names = new Set([...Object.keys(from), ...Object.keys(to)]);
  return [...names].flatMap((name) => differences(from[name], to[name], `${path}/${name}`));
}

/** The path of the one number in which two documents differ, or null: what a slider does to a plan. */
export function changedNumber(a: unknown, b: unknown): string | null {
  const [one, ...more] = differences(a, b, "");
  return one?.numbers && !more.length ? one.path : null;
}
