/** A number control as a treatment's parameter schema describes it. */
export interface Control {
  name: string;
  title: string;
  help: string;
  unit: string;
  least: number;
  most: number;
  step: number;
  standard: number;
}

interface Property {
  title?: string;
  description?: string;
  unit?: string;
  minimum?: number;
  maximum?: number;
  step?: number;
  default?: number;
}

/** The number controls of a parameter model, in its order. */
export function controlsOf(parameters: Record<string, unknown>): Control[] {
  const properties = (parameters.properties ?? {}) as Record<string, Property>;
  const numbers = Object.entries(properties).filter(([, p]) => p.unit !== undefined);
  return numbers.map(([name, p]) => ({
    name,
    title: p.title ?? name,
    help: p.description ?? "",
    unit: p.unit ?? "",
    least: p.minimum ?? 0,
    most: p.maximum ?? 100,
    step: p.step ?? 1,
    standard: p.default ?? 0,
  }));
}

export const MIX: Control = {
  name: "mix",
  title: "Mix",
  help: "How much of this step is used; the rest is what it started from.",
  unit: "%",
  least: 0,
  most: 100,
  step: 5,
  standard: 100,
};

/** How much of a step is used in each colour channel. */
export const CHANNELS: Control[] = (["r", "g", "b"] as const).map((name, k) => ({
  ...MIX,
  name,
  title: ["Red", "Green", "Blue"][k] ?? name,
  help: "How much of this step is used in the channel, on top of Mix.",
}));
