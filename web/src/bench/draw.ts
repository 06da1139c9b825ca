import type { Box, Placement } from "../lib/geometry";

/** From this many device pixels a source pixel on, pixels are shown as squares, unsmoothed. */
const CRISP_FROM = 1;

/** A picture of a part of the frame, where it lies, and the part of the screen that is its own. */
export interface Pane {
  picture: ImageBitmap | undefined;
  area: Box;
  placement: Placement;
  clip: Path2D | null;
}

export function drawPanes(
  context: CanvasRenderingContext2D,
  panes: Pane[],
  room: { width: number; height: number },
): void {
  context.fillStyle = getComputedStyle(document.documentElement).getPropertyValue("--color-surround");
  context.fillRect(0, 0, room.width, room.height);
  for (const { picture, area, placement, clip } of panes) {
    if (!picture) continue;
    const { scale, offsetX, offsetY } = placement;
    const [x, y] = [offsetX + Math.round(area.x * scale), offsetY + Math.round(area.y * scale)];
    const right = offsetX + Math.round((area.x + area.width) * scale);
    const bottom = offsetY + Math.round((area.y + area.height) * scale);
    const [width, height] = [right - x, bottom - y];
    context.save();
    if (clip) context.clip(clip);
    // The server reduces to the size that is shown, or to a larger one that was shown before.
    context.imageSmoothingQuality = "high";
    const coarse = picture.width < Math.floor(area.width);
    context.imageSmoothingEnabled = coarse || (scale < CRISP_FROM && picture.width !== width);
    context.drawImage(picture, x, y, width, height);
    context.restore();
  }
}

/** A wipe's line in device pixels: a point of it, its normal, and how far along that the frame reaches. */
export interface WipeLine {
  x: number;
  y: number;
  normal: { x: number; y: number };
  span: number;
}

/** Where the line stands: at `share` of the frame's extent along the normal, which leans by `angle` degrees. */
export function wipeLine(
  share: number,
  angle: number,
  frame: { width: number; height: number },
  placement: Placement,
): WipeLine {
  const radians = (angle * Math.PI) / 180;
  const normal = { x: Math.cos(radians), y: Math.sin(radians) };
  const [width, height] = [frame.width * placement.scale, frame.height * placement.scale];
  const span = Math.abs(width * normal.x) + Math.abs(height * normal.y);
  const along = Math.round((share - 0.5) * span);
  return {
    x: placement.offsetX + width / 2 + along * normal.x,
    y: placement.offsetY + height / 2 + along * normal.y,
    normal,
    span,
  };
}

/** The half of the screen on one side of the line: -1 before it, 1 behind it. */
export function halfPlane(line: WipeLine, side: -1 | 1): Path2D {
  const far = 1e5;
  const { x, y, normal } = line;
  const along = { x: -normal.y * far, y: normal.x * far };
  const out = { x: normal.x * side * far, y: normal.y * side * far };
  const path = new Path2D();
  path.moveTo(x - along.x, y - along.y);
  path.lineTo(x + along.x, y + along.y);
  path.lineTo(x + along.x + out.x, y + along.y + out.y);
  path.lineTo(x - along.x + out.x, y - along.y + out.y);
  path.closePath();
  return path;
}

export function rectangle(x: number, y: number, width: number, height: number): Path2D {
  const path = new Path2D();
  path.rect(x, y, width, height);
  return path;
}
