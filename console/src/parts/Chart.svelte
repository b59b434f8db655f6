<!-- How one thing was over a time: least, mean and greatest. It shows GET /api/v1/records/readings/NAME, read again every minute. -->
<script lang="ts">
  import * as api from '../state/api'
  import { again } from '../state/again'
  import { live } from '../state/live.svelte'
  import { serviceTime } from '../state/link.svelte'
  import { inZone, number } from '../state/say'
  import type { Readings } from '../state/types'

  let { name, label, days, away }: { name: string; label: string; days: number; away: (() => void) | undefined } = $props()

  const EVERY = 60_000
  let readings = $state.raw<Readings>()
  const zone = $derived(live.site?.timezone ?? 'UTC')
  const say = (time: number) => inZone(zone, days > 1 ? { day: 'numeric', month: 'short' } : { hour: '2-digit', minute: '2-digit' }).format(time)

  $effect(() => {
    const [asked, span] = [name, days]
    const at = (time: number) => new Date(time).toISOString()
    return again(EVERY, () => api.readings(asked, at(serviceTime() - span * 86_400_000), at(serviceTime())), (found) => (readings = found))
  })

  let space = $state(860)
  /** As wide as there is room, so that its words are as large on a phone as at the desk. */
  const WIDE = $derived(Math.max(260, space))
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
    return { line, band, marks, x, y, low, high, end: points[points.length - 1], last: readings.rows[readings.rows.length - 1][2] }
  })
  const of = { 0: 'single readings', 60: 'minutes: least, mean and greatest', 3600: 'hours: least, mean and greatest', 86400: 'days: least, mean and greatest' } as Record<number, string>
</script>

<section class="card" aria-label="Chart of {label}">
  <header>
    <h2>{label}</h2>
    {#if chart && readings}<p>{number(chart.last, 4)}{readings.unit ? ` ${readings.unit}` : ''} <small>{of[readings.step_seconds]}</small>{#if readings.counted} <small>{number(readings.counted.came, 4)} {readings.unit} came{readings.counted.an_hour === null ? '' : `, ${number(readings.counted.an_hour, 3)} ${readings.counted.rate_unit} on average`}</small>{/if}</p>{/if}
    {#if away}<button type="button" class="btn preset-outlined-surface-500" onclick={away}>Take away<span class="sr"> {label}</span></button>{/if}
  </header>
  {#if chart}
    <div bind:clientWidth={space}><svg viewBox="0 0 {WIDE} {HIGH}" role="img" aria-label="{label} over the time chosen">
      {#each chart.low === chart.high ? [chart.low] : [chart.low, chart.high] as value (value)}<line x1="52" x2={WIDE - 8} y1={chart.y(value)} y2={chart.y(value)} /><text x="46" y={chart.y(value) + 4} text-anchor="end">{number(value)}</text>{/each}
      {#each chart.marks as mark, place (place)}<text x={chart.x(mark)} y={HIGH - 4} text-anchor={place === chart.marks.length - 1 ? 'end' : place ? 'middle' : 'start'}>{say(mark)}</text>{/each}
      <path class="band" d={chart.band} /><path d={chart.line} /><circle cx={chart.end[0]} cy={chart.end[2]} r="3" />
    </svg></div>
  {:else if readings}<p class="quiet">Nothing has been recorded of it in that time.</p>{/if}
</section>

<style>
  .card { min-width: 0; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.7rem 1rem; }
  header { display: flex; flex-wrap: wrap; gap: 0.2rem 0.8rem; align-items: center; min-height: 2.75rem; }
  h2 { font-size: 1rem; font-weight: 700; overflow-wrap: anywhere; }
  p { font-weight: 600; }
  small, .quiet { color: var(--quiet); font-size: 0.83rem; font-weight: 400; }
  .btn { margin-left: auto; min-height: 2.75rem; }
  svg { width: 100%; height: auto; }
  path { fill: none; stroke: var(--on); stroke-width: 1.6; }
  .band { fill: color-mix(in oklab, var(--on) 25%, transparent); stroke: none; }
  circle { fill: var(--on); }
  line { stroke: var(--line); }
  text { font-size: 12px; fill: var(--quiet); }
</style>
