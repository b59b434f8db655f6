<!-- Which one is it? Blinks an output, or walks through those of a board; what may hurt somebody is asked about first. -->
<script lang="ts">
  import { onDestroy } from 'svelte'
  import { MOVING, blink, blinking, found } from '../state/blink.svelte'
  import { live } from '../state/live.svelte'

  let { outputs, words }: { outputs: string[]; words: string } = $props()

  let asking = $state(false)
  let wrong = $state('')
  const mine = $derived(outputs.includes(blinking.now))
  const may = $derived(outputs.filter((name) => live.may(name)))
  const moving = $derived(may.filter((name) => MOVING.includes(live.outputs[name]?.kind)).map((name) => live.outputs[name].label))

  async function start(): Promise<void> {
    if (mine) return void found()
    if (moving.length && !asking) return void (asking = true)
    asking = false
    wrong = await blink(may)
  }
  onDestroy(() => mine && found())
</script>

{#if may.length}
  <div class="blink">
    <button type="button" class="btn preset-outlined-surface-500" disabled={live.lost} onclick={start}>{mine ? 'Found' : asking ? 'Nobody is near: do it' : words}</button>
    <p role="status">
      {#if mine}{live.outputs[blinking.now]?.label} goes on and off{outputs.length > 1 ? ` (${outputs.indexOf(blinking.now) + 1} of ${may.length})` : ''}.
      {:else if asking}This switches {moving.join(', ')}.
      {:else}{wrong}{/if}
    </p>
  </div>
{/if}

<style>
  .blink { display: flex; flex-wrap: wrap; gap: 0.4rem 0.8rem; align-items: center; }
  .btn { min-height: 2.75rem; }
  p { font-size: 0.9rem; color: var(--soft); overflow-wrap: anywhere; }
</style>
