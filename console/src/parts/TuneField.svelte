<!-- What a sounder may play: the site's tunes, or notes written here. -->
<script lang="ts">
  import * as api from '../state/api'
  import { attempt, live } from '../state/live.svelte'
  import type { Output } from '../state/types'

  let { output }: { output: Output } = $props()

  const OWN = 'notes …'
  let chosen = $state('')
  let notes = $state('tempo 96 E4:1/2 G4:1/2 C5')
  const tune = $derived(chosen || live.tunes[0]?.name || OWN)

  const play = () => attempt(() => api.run(output.name, tune === OWN ? { kind: 'tune', notes } : tune))
</script>

<form class="row" onsubmit={(event) => { event.preventDefault(); void play() }}>
  <select class="select" aria-label="Tune for {output.label}" value={tune} onchange={(event) => (chosen = event.currentTarget.value)}>
    {#each live.tunes as each (each.name)}<option title={each.text}>{each.name}</option>{/each}
    <option>{OWN}</option>
  </select>
  {#if tune === OWN}<input class="input" aria-label="Notes for {output.label}" bind:value={notes} />{/if}
  <button type="submit" class="btn btn-sm preset-outlined-surface-500">Play on {output.label}</button>
</form>

<style>
  .row { display: flex; flex-wrap: wrap; align-items: center; gap: 0.45rem; }
  .select { width: auto; }
  .input { flex: 1; min-width: 8rem; }
</style>
