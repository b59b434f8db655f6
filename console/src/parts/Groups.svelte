<!-- Outputs that are named together: all on, all off. Each claim is answered by itself; what is refused of one is said, the others are done. -->
<script lang="ts">
  import * as api from '../state/api'
  import { attempt, live, note } from '../state/live.svelte'

  let { groups }: { groups: { name: string; outputs: string[] }[] } = $props()

  const on = (outputs: string[]) => outputs.filter((name) => live.outputs[name]?.confirmed?.on).length

  function set(group: { name: string; outputs: string[] }, setting: 'on' | 'off'): void {
    void attempt(async () => {
      await api.turnAll(group.name, setting)
      note(`${group.name}: ${setting}`, '', () => api.releaseAll(group.outputs))
    })
  }
</script>

{#each groups as group (group.name)}
  <div class="group" role="group" aria-label="Group {group.name}">
    <span>{group.name} <small>{on(group.outputs)} of {group.outputs.length} on</small></span>
    <button type="button" class="btn preset-outlined-surface-500" disabled={live.lost} onclick={() => set(group, 'on')}>on<span class="sr">: all of {group.name}</span></button>
    <button type="button" class="btn preset-outlined-surface-500" disabled={live.lost} onclick={() => set(group, 'off')}>off<span class="sr">: all of {group.name}</span></button>
  </div>
{/each}

<style>
  .group { display: flex; align-items: center; gap: 0.3rem; padding-left: 0.8rem; border: 1px solid var(--line); border-radius: var(--radius-base); background: var(--stone); }
  .group span { margin-right: 0.3rem; line-height: 1.15; }
  small { display: block; color: var(--soft); font-size: 0.78rem; }
  .btn { min-height: 2.75rem; min-width: 2.75rem; border-width: 0 0 0 1px; border-radius: 0; }
</style>
