<!-- How a lamp answers its levels, drawn (GET /api/v1/outputs/NAME/curve), and adjusted by eye: full and a candidate in turn; whoever
     looks says whether the candidate is darker or brighter than half. What is found is a line for the site file. -->
<script lang="ts">
  import { onDestroy } from 'svelte'
  import * as api from '../state/api'
  import { live } from '../state/live.svelte'
  import { number } from '../state/say'
  import type { Curve } from '../state/types'

  const lamps = $derived(live.names.map((name) => live.outputs[name]).filter((each) => each.kind === 'lamp' && each.dimmable))
  let name = $state('')
  let curve = $state.raw<Curve>()
  /** What the lamp has at half, in percent of duty, as far as it is known. */
  let half = $state<number>()
  let low = 0
  let high = 100
  let asking = $state(false)
  let wrong = $state('')
  let shown = '' // which lamp we have lit
  const FIRST = 18.4
  const chosen = $derived(lamps.some((lamp) => lamp.name === name) ? name : lamps[0]?.name)
  const may = $derived(chosen !== undefined && live.may(chosen))
  const percent = (value: number) => number(value)

  $effect(() => {
    const asked = chosen
    curve = half = undefined
    asking = false
    if (asked) api.curve(asked).then((found) => asked === chosen && (curve = found), fail)
    return end
  })
  onDestroy(end)

  function fail(error: unknown): void {
    wrong = api.said(error)
  }
  /** Let the lamp be as it was. */
  function end(): void {
    if (shown) void api.release(shown).catch(() => undefined)
    shown = ''
  }
  async function light(duty: number): Promise<void> {
    try {
      await api.duty(chosen, duty)
      ;[shown, wrong] = [chosen, '']
    } catch (error) {
      fail(error)
    }
  }
  async function turns(): Promise<void> {
    await light(100)
    await new Promise((done) => setTimeout(done, 1200))
    if (asking && half !== undefined) await light(half)
  }
  function begin(): void {
    ;[low, high, half, asking] = [0, 100, FIRST, true]
    void turns()
  }
  function answer(said: 'darker' | 'brighter'): void {
    if (said === 'darker') low = half!
    else high = half!
    half = low > 1 ? Math.sqrt(low * high) : (low + high) / 2
    void turns()
  }
  function finish(): void {
    asking = false
    end()
  }

  const W = 360
  const H = 220
  const point = (level: number, duty: number) => `${((level / 100) * W).toFixed(1)},${(H - (duty / 100) * H).toFixed(1)}`
  const line = $derived(curve?.rows.map((row) => point(row.level, row.duty)).join(' ') ?? '')
  const byEye = $derived(half === undefined ? '' : [point(0, 0), point(50, half), point(100, 100)].join(' '))
</script>

{#if lamps.length}
  <section class="card" aria-label="Light curve">
    <h2>How a lamp answers its levels</h2>
    <div class="columns">
      <div>
        <label>Lamp <select class="select" value={chosen} onchange={(event) => (name = event.currentTarget.value)}>{#each lamps as lamp (lamp.name)}<option value={lamp.name}>{lamp.label}</option>{/each}</select></label>
        {#if curve}
          <p class="soft">{curve.curve}; {curve.steps} steps{curve.hertz ? ` at ${curve.hertz} Hz` : ''}{curve.floor ? `, from ${percent(curve.floor)} %` : ''}{curve.ceiling < 100 ? `, up to ${percent(curve.ceiling)} %` : ''}{curve.trim !== 100 ? `, trimmed to ${percent(curve.trim)} %` : ''}.</p>
          <p class="soft">At half it has {percent(curve.rows.find((row) => row.level === 50)?.duty ?? 0)} % of duty now{half === undefined ? '' : `; by eye ${percent(half)} %`}.</p>
        {/if}
        {#if may}
          {#if asking}
            <p role="status">It shows full, then {percent(half ?? 0)} % of duty. The second looks</p>
            <div class="row">
              <button type="button" class="btn preset-outlined-surface-500" onclick={() => answer('darker')}>darker than half</button>
              <button type="button" class="btn preset-outlined-surface-500" onclick={() => answer('brighter')}>brighter</button>
              <button type="button" class="btn preset-filled-primary-500" onclick={finish}>half as bright</button>
              <button type="button" class="btn preset-outlined-surface-500" onclick={() => void turns()}>Once more</button>
            </div>
          {:else}
            <div class="row"><button type="button" class="btn preset-outlined-surface-500" disabled={live.lost} onclick={begin}>Compare by eye</button></div>
          {/if}
          <label class="by-hand">By hand: duty at half
            <input type="range" min="1" max="60" step="0.1" value={half ?? curve?.rows.find((row) => row.level === 50)?.duty ?? FIRST} disabled={live.lost} oninput={(event) => { half = Number(event.currentTarget.value); asking = false }} onchange={() => void light(half!)} onblur={end} />
          </label>
        {/if}
        {#if half !== undefined && !asking}<p>For the site file: <code>curve = [[0, 0], [50, {Number(half.toPrecision(3))}], [100, 100]]</code></p>{/if}
        {#if wrong}<p class="ill" role="alert">{wrong}</p>{/if}
      </div>
      <svg viewBox="-34 -8 {W + 54} {H + 46}" role="img" aria-label="Duty over level of {live.outputs[chosen]?.label}">
        {#each [0, 25, 50, 75, 100] as tick (tick)}
          <line x1="0" x2={W} y1={H - (tick / 100) * H} y2={H - (tick / 100) * H} class="grid" /><text x="-6" y={H - (tick / 100) * H + 4} class="y">{tick}</text>
          <text x={(tick / 100) * W} y={H + 16} class="x">{tick}</text>
        {/each}
        <text x={W / 2} y={H + 31} class="x">level in percent, upwards its duty</text>
        <polyline points={line} class="now" />
        {#if byEye}<polyline points={byEye} class="eye" />{/if}
      </svg>
    </div>
  </section>
{/if}

<style>
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 1rem 1.2rem; margin-bottom: 1rem; }
  h2 { font-size: 1.05rem; font-weight: 700; margin-bottom: 0.5rem; }
  .columns { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(18rem, 100%), 1fr)); gap: 1.2rem; align-items: start; }
  label { display: block; font-size: 0.85rem; color: var(--soft); }
  .select { display: block; width: 100%; min-height: 2.75rem; color: var(--ink); }
  .soft { margin-top: 0.5rem; color: var(--soft); font-size: 0.9rem; }
  .row { display: flex; flex-wrap: wrap; gap: 0.5rem; margin: 0.7rem 0; }
  .btn { min-height: 2.75rem; white-space: normal; }
  .by-hand input { width: 100%; min-height: 2.75rem; accent-color: var(--on); }
  .ill { color: var(--ill); }
  svg { width: 100%; height: auto; }
  .grid { stroke: var(--line); }
  text { font-size: 12px; fill: var(--soft); }
  .x { text-anchor: middle; }
  .y { text-anchor: end; }
  polyline { fill: none; stroke-width: 2.5; }
  .now { stroke: var(--on); }
  .eye { stroke: var(--well); stroke-dasharray: 7 4; }
</style>
