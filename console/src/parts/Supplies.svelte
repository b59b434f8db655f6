<!-- Supplies: what is drawn from each now, by which outputs, and what is left. It shows GET /api/v1/supplies. -->
<script lang="ts">
  import * as api from '../state/api'
  import { again } from '../state/again'
  import { live } from '../state/live.svelte'
  import { number } from '../state/say'
  import type { Supply } from '../state/types'

  const EVERY = 1000
  let supplies = $state.raw<Supply[]>([])
  const amperes = (value: number) => (value < 1 ? `${Math.round(value * 1000)} mA` : `${number(value)} A`)

  $effect(() => again(EVERY, api.supplies, (found) => (supplies = found)))
</script>

{#each supplies as supply (supply.name)}
  {@const all = supply.outputs.reduce((sum, each) => sum + each.amperes, 0)}
  {@const most = supply.limit ?? all}
  <section class="card" aria-label="Supply {supply.name}">
    <h3>Supply {supply.name}</h3>
    <p>
      <strong>{supply.drawn === null ? 'Not known' : amperes(supply.drawn)}</strong>{supply.limit === null ? '' : ` of ${amperes(supply.limit)}`} at {supply.volts} V{supply.drawn !== null && supply.limit !== null ? `; ${amperes(Math.max(0, supply.limit - supply.drawn))} left` : ''}.
      {#if supply.limit !== null && all > supply.limit}All on at once would draw {amperes(all)}.{/if}
    </p>
    <div class="meter" aria-hidden="true">
      {#each supply.outputs.filter((each) => each.on) as each (each.output)}<span style:width="{(each.amperes / Math.max(most, all)) * 100}%"></span>{/each}
      {#if supply.limit !== null && all > supply.limit}<i style:left="{(supply.limit / all) * 100}%"></i>{/if}
    </div>
    <ul>
      {#each supply.outputs as each (each.output)}<li class:on={each.on}>{live.outputs[each.output]?.label ?? each.output} <span>{amperes(each.amperes)}{each.on === null ? ', not known' : each.on ? ', on' : ''}</span></li>{/each}
    </ul>
  </section>
{/each}

<style>
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.8rem 1rem 1rem; margin-bottom: 1rem; }
  h3 { font-size: 1rem; font-weight: 650; margin-bottom: 0.2rem; }
  .meter { position: relative; display: flex; gap: 2px; height: 0.9rem; margin: 0.5rem 0; background: var(--ground); border: 1px solid var(--edge); border-radius: 0.3rem; overflow: hidden; }
  .meter span { background: var(--on); }
  .meter i { position: absolute; inset-block: 0; width: 3px; background: var(--ill); }
  ul { display: flex; flex-wrap: wrap; gap: 0.1rem 1.2rem; font-size: 0.88rem; color: var(--soft); }
  li.on { color: var(--ink); font-weight: 600; }
  li span { font-weight: 400; color: var(--soft); }
</style>
