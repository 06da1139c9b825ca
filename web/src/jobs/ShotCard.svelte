<script lang="ts">
  import { pictureAddress, SOURCE, type Shot } from "../api/client";
  import { mediaLine, percent, ratioOf, short } from "../lib/format";
  import { follow } from "../lib/router.svelte";
  import { busy, stateOf } from "./state";

  interface Props {
    shot: Shot;
    picked: boolean;
    onpick: () => void;
    onpoint: () => void;
    onmeasure: () => void;
    oncut: () => void;
    ontakeback: () => void;
    onremove: () => void;
  }
  const { shot, picked, onpick, onpoint, onmeasure, oncut, ontakeback, onremove }: Props = $props();
  const WIDTH = 480;
  const MOST = 3;
  const middle = $derived(Math.floor(shot.media.frames / 2));
  const scale = $derived(Math.min(1, WIDTH / shot.media.width));
  const picture = $derived(pictureAddress(shot, SOURCE, { n: middle, scale }));
  const worst = $derived(
    (shot.findings ?? [])
      .filter((finding) => finding.outside || finding.remaining !== null)
      .sort((a, b) => b.severity - a.severity)
      .slice(0, MOST),
  );
  const state = $derived(stateOf(shot));
</script>

<li class="flex flex-col [contain-intrinsic-size:auto_270px] [content-visibility:auto]">
  <a
    href={`/shots/${shot.id}`}
    onclick={follow}
    class="block aspect-video overflow-hidden bg-surround"
    aria-label={`Open ${shot.name}`}
  >
    {#if !shot.problem}
      <img
        src={picture}
        alt=""
        class="m-auto h-full max-w-full"
        style:aspect-ratio={(shot.media.width * ratioOf(shot.media.pixel_aspect)) / shot.media.height}
        loading="lazy"
      />
    {/if}
  </a>
  <div class="border-b border-rule pt-1.5 pb-2">
    <div class="flex items-baseline gap-2">
      <input
        type="checkbox"
        class="checkbox translate-y-0.5 checkbox-xs"
        aria-label={`Choose ${shot.name}`}
        checked={picked}
        onchange={onpick}
      />
      {#if shot.place}<span class="figure text-quiet" title={`Event ${shot.place.number} of its timeline`}
          >{shot.place.number}</span
        >{/if}
      <a href={`/shots/${shot.id}`} onclick={follow} class="grow truncate font-semibold" title={shot.name}
        >{shot.name}</a
      >
      <button class="text-quiet hover:underline" onclick={onmeasure} disabled={busy(shot)}>Measure</button>
      <button
        class="text-quiet hover:underline"
        onclick={onremove}
        aria-label={`Remove ${shot.name} from the job`}>Remove</button
      >
    </div>
    <p class="truncate text-[13px] text-quiet" title={mediaLine(shot.media)}>{mediaLine(shot.media)}</p>
    {#if shot.made_of}
      <p class="truncate text-[13px]">
        {shot.made_of}
        {#if shot.origin_id}
          <button class="ml-1 text-quiet underline" onclick={ontakeback}
            >{shot.generation || shot.media.fields ? "take back" : "join again"}</button
          >
        {/if}
      </p>
    {/if}
    <div class="mt-1 flex min-h-6 flex-wrap items-center gap-x-4 gap-y-1">
      {#each worst as finding (finding.kind)}
        <span>
          {finding.kind}
          <span class={["ml-1 figure", finding.outside && "outside"]}
            >{short(finding.remaining ?? finding.value)} {finding.unit}</span
          >
        </span>
      {/each}
      {#if shot.source && !shot.source.original}
        <span class="outside" title={shot.source.evidence.join("\n")}>ask for the original</span>
      {/if}
      {#if shot.cuts?.length}<button class="underline" onclick={oncut}
          ><span class="figure">{shot.cuts.length}</span>
          {shot.cuts.length === 1 ? "cut" : "cuts"} in it</button
        >{/if}
      <span class="text-quiet">{state}</span>
      {#if shot.problem}<button class="btn btn-xs" onclick={onpoint}>Point to it…</button>{/if}
      {#if busy(shot) && shot.survey}
        <progress class="progress w-24" max="1" value={shot.survey.progress} aria-label="Measuring"
        ></progress>
        <span class="figure text-[13px]">{percent(shot.survey.progress)}</span>
      {/if}
    </div>
  </div>
</li>
