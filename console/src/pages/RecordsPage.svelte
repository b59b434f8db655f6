<!-- Records: what outputs did on each day, and how anything was over an hour to a year.
     It shows GET /api/v1/records/usage and /api/v1/records/readings. -->
<script lang="ts">
  import { onMount } from 'svelte'
  import * as api from '../state/api'
  import { attempt, live } from '../state/live.svelte'
  import type { Readings, UsageDay } from '../state/types'

  const SPANS: [string, number][] = [['hour', 1 / 24], ['day', 1], ['week', 7], ['month', 30], ['year', 365]]
  let name = $state('')
  let days = $state(1)
  let readings = $state.raw<Readings>()
  let usage = $state<UsageDay[]>([])

  const things = $derived([...Object.values(live.outputs), ...Object.values(live.inputs)])
  const zone = $derived(live.site?.timezone ?? 'UTC')
  const say = (time: number | string) => new Intl.DateTimeFormat('en-GB', { timeZone: zone, day: '2-digit', month: 'short', hour: '2-digit', minute: '2-digit', second: '2-digit' }).format(new Date(time))

  onMount(() => {
    void attempt(async () => (usage = await api.usage()))
    name = Object.values(live.inputs).find((input) => input.kind === 'analogue')?.name ?? things[0]?.name ?? ''
  })
  $effect(() => {
    if (!name) return
    const [asked, span] = [name, days]
    void attempt(async () => (readings = await api.readings(asked, new Date(Date.now() - span * 86_400_000).toISOString(), new Date().toISOString())))
  })

  let space = $state(860)
  /** As wide as there is room, so that its words are as large on a phone as at the desk. */
  const WIDE = $derived(Math.max(300, space))
  const HIGH = 190
  const chart = $derived.by(() => {
    if (!readings?.rows.length) return undefined
    const [from, to] = [new Date(readings.from).getTime(), new Date(readings.to).getTime()]
    const [low, high] = [Math.min(...readings.rows.map((row) => row[1])), Math.max(...readings.rows.map((row) => row[3]))]
    const room = (high - low || 1) * 0.08
    const x = (at: number) => 52 + ((at - from) / (to - from)) * (WIDE - 60)
    const y = (value: number) => HIGH - 22 - ((value - low + room) / (high - low + 2 * room)) * (HIGH - 34)
    const step = readings.step_seconds * 1000
    const points = readings.rows.map((row) => [x(row[0] + step / 2), y(row[1]), y(row[2]), y(row[3])])
    const line = step ? points.map((p, i) => `${i ? 'L' : 'M'}${p[0].toFixed(1)} ${p[2].toFixed(1)}`).join('') : points.map((p, i) => (i ? `H${p[0].toFixed(1)}V${p[2].toFixed(1)}` : `M${p[0].toFixed(1)} ${p[2].toFixed(1)}`)).join('') + `H${x(to).toFixed(1)}`
    const band = step ? points.map((p, i) => `${i ? 'L' : 'M'}${p[0].toFixed(1)} ${p[1].toFixed(1)}`).join('') + [...points].reverse().map((p) => `L${p[0].toFixed(1)} ${p[3].toFixed(1)}`).join('') + 'Z' : ''
    const many = WIDE < 560 ? 3 : 5
    const marks = Array.from({ length: many + 1 }, (_, number) => from + ((to - from) * number) / many)
    return { line, band, marks, x, y, low, high }
  })
  const of = { 0: 'single readings', 60: 'minutes: least, mean and greatest', 3600: 'hours: least, mean and greatest', 86400: 'days: least, mean and greatest' } as Record<number, string>
  const label = (output: string) => live.outputs[output]?.label ?? output
</script>

<main id="content" tabindex="-1">
  <section class="card" aria-label="Chart">
    <div class="row">
      <label>Of <select class="select" bind:value={name}>{#each things as thing (thing.name)}<option value={thing.name}>{thing.label}</option>{/each}</select></label>
      <label>the last <select class="select" bind:value={days}>{#each SPANS as [word, span] (word)}<option value={span}>{word}</option>{/each}</select></label>
      {#if readings?.rows.length}<span class="quiet">{of[readings.step_seconds]}{readings.unit ? `, in ${readings.unit}` : ''}</span>{/if}
    </div>
    {#if chart}
      <div bind:clientWidth={space}><svg viewBox="0 0 {WIDE} {HIGH}" role="img" aria-label="Chart of {name}">
        {#each chart.low === chart.high ? [chart.low] : [chart.low, chart.high] as value (value)}<line x1="52" x2={WIDE - 8} y1={chart.y(value)} y2={chart.y(value)} /><text x="46" y={chart.y(value) + 4} text-anchor="end">{Number(value.toPrecision(3))}</text>{/each}
        {#each chart.marks as mark, number (number)}<text x={chart.x(mark)} y={HIGH - 4} text-anchor={number === chart.marks.length - 1 ? 'end' : number ? 'middle' : 'start'}>{days > 1 ? say(mark).slice(0, 6) : say(mark).slice(8, 13)}</text>{/each}
        <path class="band" d={chart.band} /><path d={chart.line} />
      </svg></div>
    {:else}<p class="quiet">Nothing has been recorded of it in that time.</p>{/if}
  </section>

  <section class="card" aria-label="Days">
    <h2>Days</h2>
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div class="scroll" tabindex="0" role="group" aria-label="Days of outputs">
      <table>
        <thead><tr><th>Day</th><th>Output</th><th>hours on</th><th>switched on</th><th>kWh</th></tr></thead>
        <tbody>{#each [...usage].reverse().slice(0, 40) as row (row.day + row.output)}<tr><td>{row.day}</td><td>{label(row.output)}</td><td>{row.hours_on.toFixed(2)}</td><td>{row.switchings}</td><td>{row.kilowatt_hours?.toFixed(3) ?? ''}</td></tr>
        {:else}<tr><td colspan="5" class="quiet">Nothing was on yet, or not long enough ago: days are written every five minutes.</td></tr>{/each}</tbody>
      </table>
    </div>
  </section>
</main>

<style>
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.8rem 1rem; margin-bottom: 1rem; }
  .row { display: flex; flex-wrap: wrap; gap: 0.6rem; align-items: center; margin-bottom: 0.4rem; }
  h2 { font-size: 1rem; font-weight: 700; }
  label { display: flex; gap: 0.4rem; align-items: center; font-size: 0.83rem; }
  .select { width: auto; }
  .quiet { color: var(--quiet); font-size: 0.83rem; }
  svg { width: 100%; height: auto; }
  path { fill: none; stroke: var(--on); stroke-width: 1.6; }
  .band { fill: color-mix(in oklab, var(--on) 25%, transparent); stroke: none; }
  line { stroke: var(--line); }
  text { font-size: 12px; fill: var(--quiet); }
  .scroll { max-height: 16rem; overflow: auto; }
  table { font-size: 0.83rem; }
  th { text-align: right; color: var(--quiet); font-weight: 400; padding-right: 1.2rem; }
  td { text-align: right; padding: 0.1rem 1.2rem 0.1rem 0; }
  th:nth-child(-n + 2), td:nth-child(-n + 2) { text-align: left; }
  label { min-width: 0; flex-wrap: wrap; }
</style>
