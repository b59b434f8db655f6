<!-- Signals: what outputs and inputs did lately, under each other on one time axis. It shows GET /api/v1/signals. -->
<script lang="ts">
  import { onDestroy, onMount } from 'svelte'
  import * as api from '../state/api'
  import { attempt } from '../state/live.svelte'
  import { mode } from '../state/mode.svelte'
  import Trace from '../parts/Trace.svelte'
  import type { Signal, Signals } from '../state/types'
  import { at, shown, span } from '../state/waves'

  const EVERY = 400
  const WINDOWS = [0.01, 0.1, 1, 10, 60, 300]
  const KEEP = 'cairnwind-signals'
  let every = $state<Signal[]>([])
  let chosen = $state<string[]>(JSON.parse(localStorage.getItem(KEEP) ?? '[]'))
  let window_ = $state(10)
  let data = $state.raw<Signals>()
  let paused = $state(false)
  let zoomed = $state<[number, number]>()
  let marks = $state<(number | undefined)[]>([undefined, undefined])
  let decided = false // somebody has chosen: what is proposed comes too late
  let across = $state('')
  let along = $state('')
  let timer: ReturnType<typeof setTimeout> | undefined

  onMount(async () => {
    await attempt(async () => {
      every = (await api.signals([], 1)).signals
      chosen = chosen.filter((name) => every.some((each) => each.name === name))
      if (!chosen.length) {
        const found = await api.signals(every.map((each) => each.name), 60)
        const moved = found.signals.filter((each) => (each.times?.length ?? 0) > 1).map((each) => each.name)
        if (!decided) chosen = moved.length ? moved.slice(0, 5) : every.slice(0, 3).map((each) => each.name)
      }
    })
    void look()
  })
  onDestroy(() => clearTimeout(timer))

  async function look(): Promise<void> {
    if (!paused && chosen.length) {
      const names = [...new Set([...chosen, across, along].filter(Boolean))]
      await attempt(async () => (data = await api.signals(names, Math.max(window_, 1))))
    }
    timer = setTimeout(look, EVERY)
  }

  function choose(name: string, on: boolean): void {
    decided = true
    chosen = on ? [...chosen, name] : chosen.filter((each) => each !== name)
    localStorage.setItem(KEEP, JSON.stringify(chosen))
  }

  function zoom(from: number, to: number): void {
    paused = true
    zoomed = [from, Math.min(to, 0)]
  }

  function pick(x: number): void {
    marks = marks[0] === undefined || marks[1] !== undefined ? [x, undefined] : [marks[0], x]
  }

  const range = $derived<[number, number]>(zoomed ?? [-window_, 0])
  const traces = $derived(data ? chosen.map((name) => data!.signals.find((each) => each.name === name)).filter((each) => each !== undefined) : [])
  const difference = $derived(marks[0] !== undefined && marks[1] !== undefined ? marks[1] - marks[0] : undefined)
  const analogue = $derived(every.filter((each) => each.kind === 'analogue'))

  // two analogue inputs against each other: where the point was, and is
  const trail = $derived.by(() => {
    const [a, b] = [across, along].map((name) => data?.signals.find((each) => each.name === name))
    if (!a?.times?.length || !b?.times?.length) return undefined
    const points: [number, number][] = []
    let [i, j] = [0, 0]
    for (const time of [...new Set([...a.times, ...b.times])].sort((x, y) => x - y)) {
      while (i + 1 < a.times.length && a.times[i + 1] <= time) i++
      while (j + 1 < b.times.length && b.times[j + 1] <= time) j++
      const [x, y] = [a.values![i], b.values![j]]
      if (x !== null && y !== null) points.push([x, y])
    }
    const bound = (values: number[]) => { const [low, high] = [Math.min(...values), Math.max(...values)]; const room = (high - low || 1) * 0.1; return [low - room, high + room] }
    const [x, y] = [bound(points.map((each) => each[0])), bound(points.map((each) => each[1]))]
    const place = ([px, py]: [number, number]) => [((px - x[0]) / (x[1] - x[0])) * 200, 200 - ((py - y[0]) / (y[1] - y[0])) * 200]
    return { path: points.map((point, number) => `${number ? 'L' : 'M'}${place(point).map((each) => each.toFixed(1)).join(' ')}`).join(''), now: place(points.at(-1)!), x, y, a, b }
  })
</script>

<main id="content" tabindex="-1">
  <section class="card tools" aria-label="What is shown">
    <div class="row">
      <button type="button" class="btn btn-sm {paused ? 'preset-filled-primary-500' : 'preset-outlined-surface-500'}" aria-pressed={paused} onclick={() => { paused = !paused; if (!paused) zoomed = undefined }}>{paused ? 'Go on' : 'Pause'}</button>
      <label>Time shown <select class="select" bind:value={window_} onchange={() => (zoomed = undefined)}>{#each WINDOWS as each (each)}<option value={each}>{span(each)}</option>{/each}</select></label>
      {#if zoomed}<button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => (zoomed = undefined)}>Zoom out</button>{/if}
      <span class="quiet">Drag over a trace to zoom in; click sets two cursors.</span>
      <span class="room"></span>
      <a class="btn btn-sm preset-outlined-surface-500" href={api.signalsFile(chosen, Math.max(window_, 1), 'vcd')} download>Save VCD</a>
      <a class="btn btn-sm preset-outlined-surface-500" href={api.signalsFile(chosen, Math.max(window_, 1), 'csv')} download>Save CSV</a>
    </div>
    <details>
      <summary>{chosen.length} of {every.length} signals</summary>
      <ul>
        {#each every as signal (signal.name)}
          <li><label><input type="checkbox" class="checkbox" checked={chosen.includes(signal.name)} onchange={(event) => choose(signal.name, event.currentTarget.checked)} /> {signal.label}</label></li>
        {/each}
      </ul>
    </details>
  </section>

  <section class="card" aria-label="Traces">
    {#each traces as signal, number (signal.name)}
      {@const points = shown(data!, signal, ...range)}
      <div class="trace">
        <div class="head">
          <strong>{signal.label}</strong>
          <span>{points.wave ? 'pin' : signal.kind === 'pwm' ? 'duty' : signal.kind === 'tone' ? 'pitch' : ''} {at(data!, signal, marks[1] ?? marks[0] ?? 0)}</span>
        </div>
        {#key mode.dark}<Trace label={signal.label} kind={signal.kind} {points} from={range[0]} to={range[1]} {marks} last={number === traces.length - 1} {zoom} {pick} />{/key}
      </div>
    {:else}
      <p class="quiet">Choose signals above. What they do from now on, and did in the last five minutes, is shown here.</p>
    {/each}
    <output class="cursors" aria-label="Cursors">
      {#if difference !== undefined}
        from {span(marks[0]!)} to {span(marks[1]!)}: {span(Math.abs(difference))}{difference ? `, ${Number(Math.abs(1 / difference).toPrecision(5))} Hz` : ''}
      {:else if marks[0] !== undefined}
        cursor at {span(marks[0])}
      {/if}
    </output>
  </section>

  {#if analogue.length > 1}
    <section class="card" aria-label="Two inputs against each other">
      <div class="row">
        <label>Across <select class="select" bind:value={across}><option value="">–</option>{#each analogue as each (each.name)}<option value={each.name}>{each.label}</option>{/each}</select></label>
        <label>Along <select class="select" bind:value={along}><option value="">–</option>{#each analogue as each (each.name)}<option value={each.name}>{each.label}</option>{/each}</select></label>
        <span class="quiet">Two analogue inputs as a moving point.</span>
      </div>
      {#if trail}
        <svg viewBox="-4 -4 208 208" role="img" aria-label="{trail.a.label} against {trail.b.label}">
          <rect width="200" height="200" /><path d={trail.path} /><ellipse cx={trail.now[0]} cy={trail.now[1]} rx="6" ry="4.5" />
        </svg>
        <p class="quiet">{trail.a.label} {trail.x.map((each) => each.toFixed(1)).join(' to ')} {trail.a.unit}, {trail.b.label} {trail.y.map((each) => each.toFixed(1)).join(' to ')} {trail.b.unit}</p>
      {/if}
    </section>
  {/if}
</main>

<style>
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.8rem 1rem; margin-bottom: 1rem; }
  .row { display: flex; flex-wrap: wrap; gap: 0.6rem; align-items: center; }
  .room { flex: 1; }
  .quiet, summary { color: var(--quiet); font-size: 0.83rem; }
  summary { cursor: pointer; margin-top: 0.5rem; }
  label { font-size: 0.83rem; display: flex; gap: 0.4rem; align-items: center; }
  .select { width: auto; }
  ul { columns: 14rem; margin-top: 0.5rem; }
  .head { display: flex; justify-content: space-between; font-size: 0.83rem; padding: 0.25rem 0.5rem 0 62px; }
  .head span { color: var(--on); font-weight: 600; }
  .cursors { display: block; min-height: 1.3rem; font-size: 0.85rem; text-align: right; }
  svg { width: min(22rem, 100%); margin-top: 0.6rem; }
  rect { fill: none; stroke: var(--line); }
  path { fill: none; stroke: var(--quiet); stroke-width: 1; }
  ellipse { fill: var(--on); }
</style>
