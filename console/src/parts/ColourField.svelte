<!-- A colour lamp's colour: a few by name, and any. While it is chosen it is sent at most so many times a second. -->
<script lang="ts">
  import * as api from '../state/api'
  import { attempt } from '../state/live.svelte'
  import type { Output } from '../state/types'

  let { output }: { output: Output } = $props()

  const EVERY = 80
  const NAMES: [string, string][] = [['white', '#ffffff'], ['gold', '#ffd700'], ['coral', '#ff7f50'], ['teal', '#008080'], ['indigo', '#4b0082']]
  let sending = false
  let next: string | undefined

  async function send(colour: string): Promise<void> {
    next = colour
    if (sending) return
    sending = true
    while (next !== undefined) {
      const colour = next
      next = undefined
      if (!(await attempt(() => api.turn(output.name, colour)))) next = undefined
      await new Promise((done) => setTimeout(done, EVERY))
    }
    sending = false
  }
</script>

<div class="row" role="group" aria-label="Colour of {output.label}">
  {#each NAMES as [name, colour] (name)}
    <button type="button" class="patch" style="background: {colour}" aria-label="{output.label} {name}" title={name} onclick={() => send(name)}></button>
  {/each}
  <label>any <input type="color" aria-label="Any colour for {output.label}" value={output.wanted.colour ?? '#000000'} oninput={(event) => send(event.currentTarget.value)} /></label>
  <span class="shown" style="background: {output.confirmed?.colour ?? 'transparent'}" aria-hidden="true"></span>
</div>

<style>
  .row { display: flex; align-items: center; gap: 0.45rem; }
  .patch { width: 1.6rem; height: 1.6rem; border: 1px solid var(--line); border-radius: 30% 45% 35% 50%; }
  label { display: flex; align-items: center; gap: 0.35rem; font-size: 0.8rem; color: var(--quiet); margin-left: 0.3rem; }
  input { width: 2.2rem; height: 1.6rem; background: none; }
  .shown { flex: 1; height: 0.7rem; border: 1px solid var(--line); }
</style>
