<!-- One output as a tile: the whole of it switches, its fill is its level, a corner opens the rest. What fits its kind: a motor runs
     while it is held, what is guarded asks for a code. A refusal stands where the finger was. -->
<script lang="ts">
  import Ellipsis from '@lucide/svelte/icons/ellipsis'
  import Hand from '@lucide/svelte/icons/hand'
  import LockKeyhole from '@lucide/svelte/icons/lock-keyhole'
  import { turn } from '../state/act.svelte'
  import { live } from '../state/live.svelte'
  import { aside, fill, is, odd } from '../state/words'
  import type { Output } from '../state/types'
  import { Hold } from './hold.svelte'

  let { name, more }: { name: string; more: (name: string) => void } = $props()

  const LONG = 550
  const output = $derived(live.outputs[name] as Output)
  const may = $derived(live.may(name))
  const holds = $derived(output.kind === 'motor' && output.takes === 'level')
  const drives = $derived(output.takes === 'drive')
  const guarded = $derived(live.guarded.includes(name) && !output.wanted.on)
  const what = $derived(is(output))
  const said = $derived(drives && !output.wanted.on && output.state === 'confirmed' ? 'driven from its pad' : aside(output))
  let refused = $state('')
  let gone: ReturnType<typeof setTimeout>
  let long: ReturnType<typeof setTimeout> | undefined
  let opened = false
  const hold = new Hold(() => name, (sentence) => refuse(sentence))

  function refuse(sentence: string): void {
    refused = sentence
    clearTimeout(gone)
    if (sentence) gone = setTimeout(() => (refused = ''), 9000)
  }

  async function press(): Promise<void> {
    if (opened) return void (opened = false)
    if (guarded) return more(name)
    if (drives && !output.wanted.on) return more(name)
    refuse('')
    refuse(await turn(output, output.wanted.on ? 'off' : 'on'))
  }

  function down(): void {
    opened = false
    clearTimeout(long)
    long = setTimeout(() => { opened = true; more(name) }, LONG)
  }
  const up = () => clearTimeout(long)
  /** The finger went elsewhere: no click follows. */
  function away(): void {
    up()
    opened = false
  }
</script>

{#if output}
  <li class="tile" class:dims={output.dimmable} class:on={output.confirmed?.on} class:odd={odd(output)} class:unknown={!output.confirmed} data-output={name} data-state={output.state} style="--fill: {fill(output) / 100}; --tint: {output.confirmed?.colour ?? 'var(--glow)'}">
    {#if holds && !output.wanted.on || hold.held}
      <button
        type="button" class="face" class:held={hold.held} aria-pressed={hold.held} disabled={!may && !hold.held}
        onpointerdown={(event) => { if (event.button) return; event.currentTarget.setPointerCapture(event.pointerId); hold.press(event.pointerId) }}
        onpointerup={(event) => hold.lift(event.pointerId)} onpointercancel={(event) => hold.lift(event.pointerId)}
        onlostpointercapture={(event) => hold.lift(event.pointerId)} onblur={() => hold.end()} oncontextmenu={(event) => event.preventDefault()}
        onkeydown={(event) => { if (event.key === ' ' || event.key === 'Enter') { event.preventDefault(); if (!event.repeat) hold.press('key') } }}
        onkeyup={() => hold.lift('key')}
      >
        <span class="label">{output.label}</span>
        <span class="is hand"><Hand size={18} aria-hidden="true" /> {hold.held ? 'Runs while held' : 'Hold to run'}</span>
        <span class="aside">{said}</span>
      </button>
    {:else}
      <button
        type="button" class="face" aria-pressed={guarded || (drives && !output.wanted.on) ? undefined : output.wanted.on} disabled={!may}
        onclick={press} onpointerdown={down} onpointerup={up} onpointerleave={away} onpointercancel={away} oncontextmenu={(event) => event.preventDefault()}
      >
        <span class="label">{output.label}</span>
        <output class="is">{#if guarded}<LockKeyhole size={18} aria-hidden="true" />{/if} {what}</output>
        <span class="aside">{said}</span>
      </button>
    {/if}
    <button type="button" class="more" aria-label="More about {output.label}" onclick={() => more(name)}><Ellipsis size={20} aria-hidden="true" /></button>
    {#if refused}<p class="refused" role="alert">{refused} <button type="button" class="close" onclick={() => refuse('')}>Close</button></p>{/if}
  </li>
{/if}

<style>
  .tile { position: relative; display: flex; min-height: 6.4rem; border-radius: var(--radius-container); border: 1px solid var(--line); overflow: clip; isolation: isolate; content-visibility: auto; contain-intrinsic-size: auto 6.4rem; background: var(--stone); }
  .tile::before { content: ''; position: absolute; inset: 0; transform: scaleY(var(--fill)); transform-origin: bottom; background: color-mix(in oklab, var(--tint) 62%, var(--stone)); z-index: -1;  }
  .dims::before { transition: transform 160ms linear; }
  .on { border-color: color-mix(in oklab, var(--glow) 70%, var(--line)); }
  .odd { border: 2px dashed var(--wary); }
  .face { flex: 1; min-width: 0; display: flex; flex-direction: column; align-items: flex-start; gap: 0.1rem; padding: 0.75rem 0.9rem; text-align: left; touch-action: manipulation; user-select: none; -webkit-touch-callout: none; border-radius: inherit; }
  .face:disabled { cursor: default; }
  .label { max-width: calc(100% - 2.2rem); font-weight: 600; line-height: 1.25; overflow-wrap: anywhere; display: -webkit-box; -webkit-line-clamp: 2; line-clamp: 2; -webkit-box-orient: vertical; overflow: hidden; }
  .is { display: flex; align-items: center; gap: 0.35rem; margin-top: auto; font-size: 1.3rem; font-weight: 700; line-height: 1.2; }
  .hand { font-size: 1.02rem; }
  .is { min-width: 0; overflow-wrap: anywhere; }
  .on .is { color: var(--ink); }
  .tile:not(.on) .is { color: var(--quiet); font-weight: 600; }
  .aside { font-size: 0.8rem; line-height: 1.3; color: var(--soft); display: -webkit-box; -webkit-line-clamp: 2; line-clamp: 2; -webkit-box-orient: vertical; overflow: hidden; overflow-wrap: anywhere; }
  .odd .aside { color: var(--wary); }
  .held { background: color-mix(in oklab, var(--glow) 62%, var(--stone)); touch-action: none; }
  .more { position: absolute; top: 0; right: 0; width: 2.9rem; height: 2.9rem; display: grid; place-items: center; color: var(--soft); border-radius: var(--radius-base); }
  .more:hover { background: color-mix(in oklab, var(--ink) 8%, transparent); }
  .refused { position: absolute; inset: 0; padding: 0.6rem 0.8rem; font-size: 0.85rem; line-height: 1.3; background: var(--stone); border: 2px solid var(--ill); border-radius: inherit; overflow: auto; z-index: 1; }
  .close { text-decoration: underline; font-weight: 600; min-height: 1.5rem; }
  @media (min-width: 40rem) and (max-height: 35rem) { .label { font-size: 1.08rem; } .is { font-size: 1.65rem; } .hand { font-size: 1.02rem; } .aside { -webkit-line-clamp: 1; line-clamp: 1; } }
  @media (prefers-reduced-motion: reduce) { .tile::before { transition: none; } }
</style>
