import type { Lut } from "../api/client";
import { clamp } from "../lib/geometry";

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
  /** The curve that it is a point of; empty for one that stands alone. */
  curve: string;
}

/** Controls that are points of one curve. */
export interface Curve {
  title: string;
  points: Control[];
}

/** One of several options, or something that is on or off. */
export interface Choice {
  name: string;
  title: string;
  help: string;
  /** Values and what they are called; none for a switch. */
  options: { value: string; title: string }[];
  standard: string | boolean;
}

/** Several numbers that belong together: a colour, or a point of the picture. */
export interface Numbers {
  name: string;
  title: string;
  help: string;
  unit: string;
  /** What each number is called. */
  parts: string[];
  standard: number[];
}

const PARTS: Record<string, string[]> = { colour: ["R", "G", "B"], point: ["x", "y"] };

interface Property {
  control?: string;
  enum?: string[];
  names?: string[];
  title?: string;
  description?: string;
  unit?: string;
  curve?: string;
  minimum?: number;
  maximum?: number;
  step?: number;
  default?: unknown;
  /** Values of other parameters with which this one counts. */
  only?: Record<string, string[]>;
}

/** A parameter model without what does not count with these settings. */
export function applying(
  parameters: Record<string, unknown>,
  settings: Record<string, unknown>,
): Record<string, unknown> {
  const properties = (parameters.properties ?? {}) as Record<string, Property>;
  const counts = ([, p]: [string, Property]) =>
    Object.entries(p.only ?? {}).every(([name, values]) =>
      values.includes(String(settings[name] ?? properties[name]?.default)),
    );
  return { ...parameters, properties: Object.fromEntries(Object.entries(properties).filter(counts)) };
}

/** The number controls of a parameter model, in its order. */
export function controlsOf(parameters: Record<string, unknown>): Control[] {
  const properties = (parameters.properties ?? {}) as Record<string, Property>;
  const numbers = Object.entries(properties).filter(([, p]) => p.control === "number");
  return numbers.map(([name, p]) => ({
    name,
    title: p.title ?? name,
    help: p.description ?? "",
    unit: p.unit ?? "",
    least: p.minimum ?? 0,
    most: p.maximum ?? 100,
    step: p.step ?? 1,
    standard: Number(p.default ?? 0),
    curve: p.curve ?? "",
  }));
}

/** Controls that stand alone, and the curves that the others are points of. */
export function apart(controls: Control[]): { alone: Control[]; curves: Curve[] } {
  const titles = [...new Set(controls.map((control) => control.curve).filter(Boolean))];
  return {
    alone: controls.filter((control) => !control.curve),
    curves: titles.map((title) => ({ title, points: controls.filter((c) => c.curve === title) })),
  };
}

/** The choices and switches of a parameter model, in its order; LUTs are chosen from the library. */
export function choicesOf(parameters: Record<string, unknown>, luts: Lut[] = []): Choice[] {
  const properties = (parameters.properties ?? {}) as Record<string, Property>;
  const found = Object.entries(properties).filter(
    ([, p]) => p.control === "choice" || p.control === "switch" || p.control === "lut",
  );
  return found.map(([name, p]) => ({
    name,
    title: p.title ?? name,
    help: p.description ?? "",
    options:
      p.control === "lut"
        ? [{ value: "", title: "None" }, ...luts.map((lut) => ({ value: lut.path, title: lut.name }))]
        : (p.enum ?? []).map((value, k) => ({ value, title: p.names?.[k] ?? value })),
    standard: p.default as string | boolean,
  }));
}

/** The colours and points of a parameter model, in its order. */
export function numbersOf(parameters: Record<string, unknown>): Numbers[] {
  const properties = (parameters.properties ?? {}) as Record<string, Property>;
  return Object.entries(properties).flatMap(([name, p]) => {
    const parts = PARTS[p.control ?? ""];
    if (!parts) return [];
    const standard = (p.default ?? parts.map(() => 0)) as number[];
    return [{ name, title: p.title ?? name, help: p.description ?? "", unit: p.unit ?? "", parts, standard }];
  });
}

/** A number as people type it; null for what is none. */
export function typedNumber(text: string): number | null {
  const typed = Number(text.replace(",", "."));
  return Number.isFinite(typed) && text.trim() !== "" ? typed : null;
}

/** The same for a control, within its limits. */
export function typedWithin(control: Control, text: string): number | null {
  const typed = typedNumber(text);
  return typed === null ? null : clamp(typed, control.least, control.most);
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
  curve: "",
};

/** How much of a step is used in each colour channel. */
export const CHANNELS: Control[] = (["r", "g", "b"] as const).map((name, k) => ({
  ...MIX,
  name,
  title: ["Red", "Green", "Blue"][k] ?? name,
  help: "How much of this step is used in the channel, on top of Mix.",
}));
