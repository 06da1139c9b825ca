/** A rectangle in pixels. */
export interface Box {
  x: number;
  y: number;
  width: number;
  height: number;
}

/** How source pixels lie on the screen: screen = source × scale + offset, in device pixels. */
export interface Placement {
  scale: number;
  offsetX: number;
  offsetY: number;
}

/** The zooms one can choose, in percent. */
export const ZOOMS = [25, 50, 100, 200, 400, 800];

/** The largest scale at which a whole frame fits. */
export function fitScale(
  frame: { width: number; height: number },
  room: { width: number; height: number },
): number {
  return Math.min(room.width / frame.width, room.height / frame.height);
}

/** Place a frame so that source point (cx, cy) is in the middle; offsets are whole device pixels. */
export function place(
  scale: number,
  cx: number,
  cy: number,
  room: { width: number; height: number },
): Placement {
  return {
    scale,
    offsetX: Math.round(room.width / 2 - cx * scale),
    offsetY: Math.round(room.height / 2 - cy * scale),
  };
}

/** Keep the middle of the view so that the frame is not lost: small frames are centred. */
export function held(centre: number, length: number, room: number, scale: number): number {
  const half = room / scale / 2;
  return half * 2 >= length ? length / 2 : Math.min(Math.max(centre, half), length - half);
}

/** The visible part of a frame, grown to multiples of `grid` so that small moves ask for nothing new. */
export function visible(
  placement: Placement,
  room: { width: number; height: number },
  frame: { width: number; height: number },
  grid: number,
): Box {
  const left = clamp(Math.floor(-placement.offsetX / placement.scale / grid) * grid, 0, frame.width);
  const top = clamp(Math.floor(-placement.offsetY / placement.scale / grid) * grid, 0, frame.height);
  const right = Math.ceil((room.width - placement.offsetX) / placement.scale / grid) * grid;
  const bottom = Math.ceil((room.height - placement.offsetY) / placement.scale / grid) * grid;
  return {
    x: left,
    y: top,
    width: clamp(right, 0, frame.width) - left,
    height: clamp(bottom, 0, frame.height) - top,
  };
}

export function clamp(value: number, least: number, most: number): number {
  return Math.min(Math.max(value, least), most);
}

/** The box between two corners, in whole pixels inside a frame. */
export function boxBetween(
  a: { x: number; y: number },
  b: { x: number; y: number },
  frame: { width: number; height: number },
): Box {
  const x0 = clamp(Math.round(Math.min(a.x, b.x)), 0, frame.width);
  const y0 = clamp(Math.round(Math.min(a.y, b.y)), 0, frame.height);
  const x1 = clamp(Math.round(Math.max(a.x, b.x)), 0, frame.width);
  const y1 = clamp(Math.round(Math.max(a.y, b.y)), 0, frame.height);
  return { x: x0, y: y0, width: x1 - x0, height: y1 - y0 };
}
