import type { Box, Placement } from "../lib/geometry";

/** From this many device pixels a source pixel on, pixels are shown as squares, unsmoothed. */
const CRISP_FROM = 1;

/**
 * Draw one picture, or two on both sides of a split (device pixels from the frame's left edge).
 * `area` is the part of the frame that the pictures show.
 */
export function drawPicture(
  context: CanvasRenderingContext2D,
  pictures: (ImageBitmap | undefined)[],
  area: Box,
  placement: Placement,
  split: number | null,
  room: { width: number; height: number },
): void {
  context.fillStyle = getComputedStyle(document.documentElement).getPropertyValue("--color-surround");
  context.fillRect(0, 0, room.width, room.height);
  context.imageSmoothingEnabled = placement.scale < CRISP_FROM;
  context.imageSmoothingQuality = "high";
  const x = placement.offsetX + Math.round(area.x * placement.scale);
  const y = placement.offsetY + Math.round(area.y * placement.scale);
  const width = Math.round(area.width * placement.scale);
  const height = Math.round(area.height * placement.scale);
  pictures.forEach((picture, side) => {
    if (!picture) return;
    context.save();
    if (split !== null) {
      const edge = placement.offsetX + split;
      context.beginPath();
      context.rect(side === 0 ? 0 : edge, 0, side === 0 ? edge : room.width - edge, room.height);
      context.clip();
    }
    context.drawImage(picture, x, y, width, height);
    context.restore();
  });
}
