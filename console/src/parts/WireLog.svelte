<!-- What went over the wire of a board or a remote: the newest on top, only so many. -->
<script lang="ts">
  import { untrack } from 'svelte'
  import { clock } from '../state/live.svelte'
  import type { Frame, Wire } from '../state/types'

  const SHOWN = 60
  let { name, read: more }: { name: string; read: (after: number) => Promise<Wire> } = $props()
  let open = $state(false)
  let frames = $state.raw<Frame[]>([])
  let trouble = $state('')

  $effect(() => {
    if (!open) return
    let over = false
    let timer: ReturnType<typeof setTimeout> | undefined
    const read = async () => {
      try {
        const wire = await more(untrack(() => frames[0]?.number ?? 0))
        if (!over) frames = [...wire.frames.reverse(), ...untrack(() => frames)].slice(0, SHOWN)
        trouble = ''
      } catch (error) {
        trouble = error instanceof Error ? error.message : ''
      }
      if (!over) timer = setTimeout(read, 700) // not before this answer: two that are under way would both have the same frames
    }
    void read()
    return () => {
      over = true
      clearTimeout(timer)
    }
  })
</script>

<details class="wire" bind:open>
  <summary>On the wire of {name}</summary>
  <ol aria-label="Frames">
    {#each frames as frame (frame.number)}
      <li data-way={frame.way}>
        <time>{clock(frame.at)}.{frame.at.slice(20, 23)}</time>
        <span class="way" aria-label={frame.way}>{frame.way === 'sent' ? '→' : frame.way === 'got' ? '←' : '×'}</span>
        <span>{frame.text}{#if frame.raw && !frame.plain}<code>{frame.raw}</code>{/if}</span>
      </li>
    {:else}
      <li class="alone">{trouble || 'Nothing yet.'}</li>
    {/each}
  </ol>
</details>

<style>
  .wire { background: var(--stone); border: 1px solid var(--line); padding: 0.6rem 1rem; }
  summary { cursor: pointer; font-size: 0.88rem; }
  ol { max-height: 22rem; overflow: auto; font-size: 0.76rem; margin-top: 0.5rem; }
  li { display: grid; grid-template-columns: auto 1rem 1fr; gap: 0.5rem; padding: 0.08rem 0; border-top: 1px solid var(--line); }
  li.alone { display: block; }
  time, code { color: var(--quiet); }
  code { display: block; padding: 0; background: none; font-size: 0.92em; overflow-wrap: anywhere; white-space: normal; }
  [data-way='lost'] { color: var(--ill); }
  [data-way='got'] .way { color: var(--well); }
  [data-way='sent'] .way { color: var(--on); }
</style>
