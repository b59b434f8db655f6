<!-- What of the service's machine the boards need: whether it is there, may be opened, and who holds it. It shows GET /api/v1/doctor. -->
<script lang="ts">
  import * as api from '../state/api'
  import { attempt } from '../state/live.svelte'
  import type { Examined } from '../state/types'

  let found = $state.raw<Examined[]>()
  let busy = $state(false)

  async function look(): Promise<void> {
    busy = true
    await attempt(async () => (found = await api.doctor()))
    busy = false
  }
</script>

<section class="card" aria-label="The machine">
  <h3>The machine that the service runs on</h3>
  <button type="button" class="btn preset-outlined-surface-500" disabled={busy} onclick={look}>{busy ? 'Looking …' : found ? 'Look again' : 'Look at its devices and rights'}</button>
  {#if found}
    <ul>
      {#each found as each, number (number)}
        <li><b class:good={each.good} class:ill={each.good === false}>{each.good === null ? 'note' : each.good ? 'good' : 'trouble'}</b><span>{each.what}{#if each.remedy}<small>{each.remedy}</small>{/if}</span></li>
      {:else}<li>There is nothing to look at.</li>{/each}
    </ul>
  {/if}
</section>

<style>
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.8rem 1rem 1rem; margin-bottom: 1rem; }
  h3 { font-size: 1rem; font-weight: 650; margin-bottom: 0.4rem; }
  .btn { min-height: 2.75rem; }
  ul { margin-top: 0.6rem; font-size: 0.9rem; }
  li { display: grid; grid-template-columns: 4rem 1fr; gap: 0.6rem; padding: 0.3rem 0; border-top: 1px solid var(--line); overflow-wrap: anywhere; }
  b { color: var(--soft); font-weight: 600; }
  .good { color: var(--well); }
  .ill { color: var(--ill); }
  small { display: block; color: var(--soft); }
</style>
