<!-- How it was decided about an output, phase by phase, now and as it comes. It shows GET /api/v1/outputs/NAME/trace, while it is open. -->
<script lang="ts">
  import * as api from '../state/api'
  import { again } from '../state/again'
  import { clock } from '../state/live.svelte'
  import type { Decided } from '../state/types'

  let { name }: { name: string } = $props()

  const EVERY = 1000
  const KEPT = 8
  let all = $state.raw<Decided[]>([])

  $effect(() => {
    const asked = name
    return again(EVERY, () => api.trace(asked, all.at(-1)?.number), (found) => { if (found.length) all = [...all, ...found].slice(-KEPT) })
  })
</script>

<ol aria-label="Decisions about {name}, the last one first">
  {#each [...all].reverse() as each (each.number)}
    <li>
      <p><strong>{each.event}</strong> <small>{clock(each.at)}</small></p>
      <dl>
        {#each each.steps.filter((step) => step.phase !== 'event') as step, number (number)}
          <dt>{number && each.steps.filter((one) => one.phase !== 'event')[number - 1]?.phase === step.phase ? '' : step.phase}</dt>
          <dd class:no={step.no}>{[step.what, step.text].filter(Boolean).join(': ')}</dd>
        {/each}
      </dl>
    </li>
  {:else}<li>Nothing has been decided yet.</li>{/each}
</ol>

<style>
  li { padding: 0.5rem 0; border-top: 1px solid var(--line); font-size: 0.88rem; line-height: 1.4; overflow-wrap: anywhere; }
  small { color: var(--soft); }
  dl { display: grid; grid-template-columns: 6.5rem 1fr; gap: 0.05rem 0.6rem; margin-top: 0.2rem; }
  dt { color: var(--soft); }
  .no { color: var(--ill); }
</style>
