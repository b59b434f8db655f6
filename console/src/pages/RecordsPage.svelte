<!-- Records: how things were over an hour to a year, as a wall of charts that this browser keeps, and what outputs did on each day.
     It shows GET /api/v1/records/usage and /api/v1/records/readings. -->
<script lang="ts">
  import { onMount } from 'svelte'
  import * as api from '../state/api'
  import Chart from '../parts/Chart.svelte'
  import { kept } from '../state/kept.svelte'
  import { attempt, live } from '../state/live.svelte'
  import { places } from '../state/say'
  import type { UsageDay } from '../state/types'

  const SPANS: [string, number][] = [['hour', 1 / 24], ['day', 1], ['week', 7], ['month', 30], ['year', 365]]
  const AT_FIRST = 4
  const wall = kept<string[]>('wall', [])
  let days = $state(1)
  let usage = $state<UsageDay[]>([])

  const things = $derived([...Object.values(live.outputs), ...Object.values(live.inputs)].map(({ name, label }) => ({ name, label: label || name })))
  const usual = $derived([...Object.values(live.inputs).filter((input) => input.kind === 'analogue').map((input) => input.name), ...things.map((each) => each.name)])
  const chosen = $derived(wall.now.some((name) => things.some((each) => each.name === name)) ? wall.now : usual.slice(0, Math.max(1, Math.min(AT_FIRST, Object.values(live.inputs).filter((input) => input.kind === 'analogue').length))))
  const shown = $derived(things.filter((each) => chosen.includes(each.name)).sort((a, b) => chosen.indexOf(a.name) - chosen.indexOf(b.name)))
  const rest = $derived(things.filter((each) => !chosen.includes(each.name)))

  onMount(() => attempt(async () => (usage = await api.usage())))
  const label = (output: string) => live.outputs[output]?.label ?? output
</script>

<main id="content" tabindex="-1">
  <div class="row">
    <label>The last <select class="select" bind:value={days}>{#each SPANS as [word, span] (word)}<option value={span}>{word}</option>{/each}</select></label>
    <label>Also show <select class="select" value="" onchange={(event) => { wall.now = [...chosen, event.currentTarget.value]; event.currentTarget.value = '' }}><option value="" disabled>…</option>{#each rest as thing (thing.name)}<option value={thing.name}>{thing.label}</option>{/each}</select></label>
  </div>
  <div class="wall">
    {#each shown as thing (thing.name)}<Chart name={thing.name} label={thing.label} {days} away={shown.length > 1 ? () => (wall.now = chosen.filter((name) => name !== thing.name)) : undefined} />
    {:else}<p class="quiet">There is nothing yet that could be recorded.</p>{/each}
  </div>

  <section class="card" aria-label="Days">
    <h2>Days</h2>
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div class="scroll" tabindex="0" role="group" aria-label="Days of outputs">
      <table>
        <thead><tr><th>Day</th><th>Output</th><th>hours on</th><th>switched on</th><th>kWh</th></tr></thead>
        <tbody>{#each [...usage].reverse().slice(0, 40) as row (row.day + row.output)}<tr><td>{row.day}</td><td>{label(row.output)}</td><td>{places(row.hours_on, 2)}</td><td>{row.switchings}</td><td>{row.kilowatt_hours === null ? '' : places(row.kilowatt_hours, 3)}</td></tr>
        {:else}<tr><td colspan="5" class="quiet">Nothing was on yet, or not long enough ago: days are written every five minutes.</td></tr>{/each}</tbody>
      </table>
    </div>
  </section>
</main>

<style>
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.8rem 1rem; margin-bottom: 1rem; }
  .wall { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(24rem, 100%), 1fr)); gap: 1rem; margin-bottom: 1rem; }
  .row .select { min-height: 2.75rem; }
  .row { display: flex; flex-wrap: wrap; gap: 0.6rem; align-items: center; margin-bottom: 0.4rem; }
  h2 { font-size: 1rem; font-weight: 700; }
  label { display: flex; gap: 0.4rem; align-items: center; font-size: 0.83rem; }
  .select { width: auto; }
  .quiet { color: var(--quiet); font-size: 0.83rem; }
  .scroll { max-height: 16rem; overflow: auto; }
  table { font-size: 0.83rem; }
  th { text-align: right; color: var(--quiet); font-weight: 400; padding-right: 1.2rem; }
  td { text-align: right; padding: 0.1rem 1.2rem 0.1rem 0; }
  th:nth-child(-n + 2), td:nth-child(-n + 2) { text-align: left; }
  label { min-width: 0; flex-wrap: wrap; }
</style>
