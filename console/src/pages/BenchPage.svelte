<!-- The bench: how a lamp answers its levels, and how a timer reaches a frequency and a duty (GET /api/v1/timers/…/fit). -->
<script lang="ts">
  import { onMount } from 'svelte'
  import ByEye from '../parts/ByEye.svelte'
  import * as api from '../state/api'
  import { later } from '../state/later'
  import { number } from '../state/say'
  import type { Fit, Timer } from '../state/types'

  let timers = $state<Timer[]>([])
  let timer = $state('header')
  let hertz = $state('440 Hz')
  let duty = $state('50 %')
  let first = $state('error')
  let fit = $state<Fit>()
  let wrong = $state('')

  onMount(async () => (timers = await api.timers()))

  $effect(() => {
    const asked = [timer, hertz, duty, first] as const
    return later(120, () => api.fit(...asked), (its) => ([fit, wrong] = [its, '']), (error) => (wrong = api.said(error)))
  })

  const WIDE = 900
  const HIGH = 70
  const wave = $derived.by(() => {
    if (!fit) return ''
    const y = (level: number) => (level ? 4 : HIGH)
    let path = ''
    let last: number | undefined
    for (const [at, level] of fit.wave.edges) {
      const x = ((at / fit.wave.seconds) * WIDE).toFixed(1)
      path += last === undefined ? `M0 ${y(level)}` : `H${x}V${y(level)}`
      last = level
    }
    return `${path}H${WIDE}`
  })
  const shown = (value: number, digits = 6) => number(value, digits)
  const hz = (value: number) => (value >= 1e6 ? `${shown(value / 1e6, 4)} MHz` : value >= 1e4 ? `${shown(value / 1e3, 4)} kHz` : `${shown(value, 4)} Hz`)
  const us = (ns: number) => `${shown(ns / 1000)} µs`
</script>

<main id="content" tabindex="-1">
  <ByEye />
  <section class="card" aria-label="Fit">
    <h2>How a timer reaches a frequency</h2>
    <div class="fields">
      <label>Timer <select class="select" bind:value={timer}>{#each timers as each (each.name)}<option value={each.name}>{each.name}</option>{/each}</select></label>
      <label>Frequency <input class="input" bind:value={hertz} /></label>
      <label>Duty <input class="input" bind:value={duty} /></label>
      <label>First <select class="select" bind:value={first}><option value="error">least error</option><option value="resolution">most steps</option></select></label>
    </div>
    {#if wrong}
      <p class="wrong" role="alert">{wrong}</p>
    {:else if fit}
      <p class="quiet">{fit.timer.title}. It reaches {hz(fit.timer.lowest_hertz)} to {hz(fit.timer.highest_hertz)}.</p>
      {#if fit.beyond}<p class="wary">{fit.beyond}.</p>{/if}
      <svg viewBox="0 0 {WIDE} {HIGH + 6}" role="img" aria-label="Two periods of the waveform"><path d={wave} /></svg>
      <p class="quiet">Two periods of {us(fit.best.period_ns)}, high for {us((fit.best.period_ns * fit.best.duty) / 100)}.</p>
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <div class="scroll" tabindex="0" role="group" aria-label="Ways to get there">
        <table>
          <thead><tr><th></th><th>prescaler</th><th>period</th><th>compare</th><th>frequency</th><th>error</th><th>duty</th><th>error</th><th>steps</th></tr></thead>
          <tbody>
            {#each fit.candidates as row (`${row.prescaler} ${row.period}`)}
              {@const best = row.prescaler === fit.best.prescaler && row.period === fit.best.period}
              <tr class:best class:far={!row.in_reach}>
                <th scope="row">{best ? 'best' : row.in_reach ? '' : 'far'}</th>
                <td>{row.prescaler}</td><td>{row.period}</td><td>{row.compare}</td><td>{shown(row.hertz, 8)} Hz</td>
                <td>{shown(row.error_percent, 3)} %</td><td>{shown(row.duty, 6)} %</td><td>{shown(row.duty_error_percent, 3)} %</td><td>{row.steps}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
      {#if Object.keys(fit.timer.channels).length}
        <p class="quiet">Its channels share the frequency: {Object.entries(fit.timer.channels).map(([channel, pins]) => `${channel} on ${pins.join(' or ')}`).join(', ')}.</p>
      {/if}
    {/if}
  </section>
</main>

<style>
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 1rem 1.2rem; }
  h2 { font-size: 1.05rem; font-weight: 700; margin-bottom: 0.5rem; }
  .fields { display: grid; grid-template-columns: repeat(auto-fit, minmax(9rem, 1fr)); gap: 0.7rem; margin-bottom: 0.8rem; }
  label { font-size: 0.78rem; color: var(--quiet); }
  .quiet { color: var(--quiet); font-size: 0.85rem; margin: 0.4rem 0; }
  .wary { color: var(--wary); font-weight: 600; }
  .wrong { color: var(--ill); }
  svg { width: 100%; height: auto; }
  path { fill: none; stroke: var(--on); stroke-width: 2; }
  .scroll { overflow-x: auto; }
  table { width: 100%; border-collapse: collapse; font-size: 0.88rem; }
  th { font-weight: 600; color: var(--quiet); text-align: right; padding: 0.25rem 0.6rem; white-space: nowrap; }
  td { text-align: right; padding: 0.25rem 0.6rem; border-top: 1px solid var(--line); white-space: nowrap; }
  .best td { color: var(--on); font-weight: 600; }
  .best th { color: var(--on); }
  .far { font-style: italic; }
  .far td { color: var(--soft); }
</style>
