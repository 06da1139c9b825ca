<script lang="ts">
  import type { Course } from "../api/client";

  interface Props {
    course: Course;
    x: (n: number) => number;
    width: number;
    height: number;
  }
  const { course, x, width, height }: Props = $props();
  const all = $derived([...course.before, ...course.meant, ...course.after]);
  const low = $derived(Math.min(...all));
  const span = $derived(Math.max(Math.max(...all) - low, 0.5));
  const y = (value: number) => height - 5 - ((value - low) / span) * (height - 12);
  const line = (values: number[]) =>
    values.map((value, k) => `${x(course.first + k).toFixed(1)},${y(value).toFixed(1)}`).join(" ");
</script>

<g data-testid="course">
  <polyline points={line(course.before)} fill="none" stroke="#4a4a4a" stroke-width="1" />
  <polyline
    points={line(course.meant)}
    fill="none"
    stroke="#161616"
    stroke-width="1"
    stroke-dasharray="4 3"
  />
  <polyline points={line(course.after)} fill="none" stroke="#161616" stroke-width="2" />
  <text x={width - 4} y="11" text-anchor="end" font-size="11" fill="#161616"
    >{(low + span).toFixed(1)} {course.unit}</text
  >
  <text x={width - 4} y={height - 3} text-anchor="end" font-size="11" fill="#161616">{low.toFixed(1)}</text>
</g>
