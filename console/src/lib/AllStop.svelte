<!-- All-stop: one press. Its reset asks once more, since loads may come back on. -->
<script lang="ts">
  import * as api from './api'
  import { attempt, clock, live } from './live.svelte'

  let sure = $state(false)

  const stopped = $derived(live.site?.all_stop.stopped ?? false)
  const returning = $derived(Object.values(live.outputs).filter((output) => output.gate === 'all-stop').map((output) => `${output.label} ${output.wanted.words}`))
</script>

{#if !stopped}
  <button type="button" class="btn preset-filled-error-500 stop" onclick={() => { sure = false; void attempt(api.stop) }}>Stop everything</button>
{:else if !sure}
  <button type="button" class="btn preset-outlined-error-500 stop" disabled={!live.keeps} onclick={() => (sure = true)}>Reset all-stop…</button>
{:else}
  <span class="sure" role="group" aria-label="Reset the all-stop?">
    <button type="button" class="btn preset-filled-error-500 stop" onclick={() => { sure = false; void attempt(api.resetStop) }}>Reset now</button>
    <button type="button" class="btn preset-tonal-surface" onclick={() => (sure = false)}>Keep stopped</button>
  </span>
{/if}

{#if stopped && live.site}
  <p class="told" role="status">
    <strong>All-stop</strong> since {clock(live.site.all_stop.since)} by the {live.site.all_stop.by}{live.site.all_stop.reason ? `: ${live.site.all_stop.reason}` : ''}.
    {returning.length ? `After the reset these are on again: ${returning.join(', ')}.` : 'After the reset nothing comes on by itself.'}
  </p>
{/if}

<style>
  .stop { min-width: 10rem; font-weight: 700; }
  .sure { display: inline-flex; gap: 0.5rem; }
  .told { order: 9; flex-basis: 100%; padding: 0.6rem 0.9rem; border-left: 4px solid var(--ill); background: var(--stone); }
</style>
