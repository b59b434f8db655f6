<!-- A lane for each output, time to the right: what a rehearsal has found. Drag to look ahead; hover or focus tells why. What a schedule
     has on can be picked; where its times may be changed, its ends are dragged. -->
<script lang="ts">
  import { inZone } from '../state/say'
  import type { Bar } from '../state/types'

  let { bars, others = [], lanes, begin, end, zone, shift, pick, picked, move }: {
    /** A bar is pressed; which one is being edited, and what to do where one of its ends is dragged to a time. */
    pick: (bar: Bar) => void; picked: (bar: Bar) => boolean; move: ((bar: Bar, which: 'from' | 'to', time: number) => void) | undefined
    bars: Bar[]; others?: Bar[]; lanes: { name: string; label: string }[]; begin: number; end: number; zone: string; shift: (milliseconds: number) => void
  } = $props()

  const TOP = 22
  let wide = $state(800)
  let told = $state<Bar>()
  let dragged = $state(0)
  let from = 0
  let dragging = $state(false)
  let now = $state(Date.now())
  $effect(() => {
    const timer = setInterval(() => (now = Date.now()), 20_000)
    return () => clearInterval(timer)
  })

  const names = $derived(wide < 560 ? 0 : 130)
  /** A lane's height; where there is no room beside it, its name is above it. */
  const HIGH = $derived(names ? 34 : 48)
  const above = $derived(names ? 3 : 17)
  const x = (at: number) => names + ((at - begin) / (end - begin)) * (wide - names)
  const at = (text: string) => new Date(text).getTime()
  const row = $derived(Object.fromEntries(lanes.map((lane, number) => [lane.name, number])))
  const shown = $derived(bars.filter((bar) => bar.on && bar.output in row))
  const dashed = $derived(others.filter((bar) => bar.on && bar.output in row))
  const days = $derived((end - begin) / 86_400_000)
  const say = (time: number, options: Intl.DateTimeFormatOptions) => inZone(zone, options).format(time)
  const clock = (text: string) => say(at(text), days > 1.5 ? { weekday: 'short', day: 'numeric', hour: '2-digit', minute: '2-digit' } : { hour: '2-digit', minute: '2-digit', second: '2-digit' })

  // Hours are counted from the beginning, which is a midnight of the site: good enough for marks, but for the one
  // day on which the clocks change.
  const ticks = $derived.by(() => {
    const step = (days > 10 ? 48 : days > 1.5 ? 24 : wide < 560 ? 6 : 3) * 3_600_000
    return Array.from({ length: Math.ceil((end - begin) / step) }, (_, number) => begin + number * step)
  })

  const SNAP = 5 * 60_000
  let pulled: { bar: Bar; which: 'from' | 'to' } | undefined
  function pull(event: PointerEvent, bar: Bar, which: 'from' | 'to'): void {
    event.stopPropagation()
    pulled = { bar, which }
    ;(event.currentTarget as Element).setPointerCapture(event.pointerId)
  }
  function drag(event: PointerEvent): void {
    if (!pulled) return
    const box = (event.currentTarget as Element).closest('svg')!.getBoundingClientRect()
    const time = begin + ((event.clientX - box.left - names) / (wide - names)) * (end - begin)
    move?.(pulled.bar, pulled.which, Math.round(time / SNAP) * SNAP)
  }
  const drop = () => (pulled = undefined)

  function press(event: PointerEvent): void {
    dragging = true
    from = event.clientX
  }
  function pan(event: PointerEvent): void {
    if (!dragging) return
    dragged = event.clientX - from
    if (Math.abs(dragged) > 6) (event.currentTarget as Element).setPointerCapture(event.pointerId) // a press alone is for a bar
  }
  function let_go(): void {
    if (dragging && Math.abs(dragged) > 6) shift((-dragged / (wide - names)) * (end - begin))
    dragging = false
    dragged = 0
  }
</script>

<div class="holder" bind:clientWidth={wide}>
  <svg width={wide} height={TOP + lanes.length * HIGH + 4} role="group" aria-label="What is on when" class:dragging
    onpointerdown={press} onpointermove={pan} onpointerup={let_go} onpointercancel={let_go}>
    {#each ticks as tick (tick)}
      <line x1={x(tick) + dragged} x2={x(tick) + dragged} y1={TOP - 4} y2={TOP + lanes.length * HIGH} class="tick" />
      <text x={x(tick) + dragged + 4} y="13" class="when">{say(tick, days > 1.5 ? (wide < 560 ? { weekday: 'narrow', day: 'numeric' } : { weekday: 'short', day: 'numeric', month: 'short' }) : { hour: '2-digit', minute: '2-digit' })}</text>
    {/each}
    {#each lanes as lane, number (lane.name)}
      <rect x={names} y={TOP + number * HIGH + above} width={Math.max(0, wide - names)} height={HIGH - above - 3} class="lane" />
    {/each}
    <g transform="translate({dragged} 0)">
      {#each shown as bar, number (number)}
        {@const high = 6 + 20 * Math.sqrt(bar.level)}
        {@const left = Math.max(names, x(at(bar.start)))}
        {@const width = Math.max(2, x(at(bar.end)) - left)}
        {@const plan = bar.by.includes('(plan)')}
        <g tabindex="0" role="button" aria-pressed={picked(bar)} class:plan class:picked={picked(bar)} onclick={() => plan && pick(bar)} onkeydown={(event) => { if (plan && ['Enter', ' '].includes(event.key)) { event.preventDefault(); pick(bar) } }} aria-label="{lanes[row[bar.output]].label} {bar.words}, {clock(bar.start)} to {clock(bar.end)}: {bar.why}" onpointerenter={() => (told = bar)} onfocus={() => (told = bar)} onpointerleave={() => (told = undefined)} onblur={() => (told = undefined)}>
          <rect x={left} y={TOP + row[bar.output] * HIGH + HIGH - 4 - high} {width} height={high} class="bar" class:person={!bar.by.includes('(plan)')} />
          {#if width > bar.brief.length * 7 + 8}<text x={left + 5} y={TOP + row[bar.output] * HIGH + HIGH - 9} class="words">{bar.brief}</text>{/if}
          {#if move && picked(bar)}
            {#each [['from', left], ['to', left + width]] as [which, at] (which)}
              <!-- svelte-ignore a11y_no_static_element_interactions -->
              <rect x={(at as number) - 12} y={TOP + row[bar.output] * HIGH + above} width="24" height={HIGH - above - 3} class="grip" onpointerdown={(event) => pull(event, bar, which as 'from' | 'to')} onpointermove={drag} onpointerup={drop} onpointercancel={drop} />
              <line x1={at as number} x2={at as number} y1={TOP + row[bar.output] * HIGH + above} y2={TOP + row[bar.output] * HIGH + HIGH - 3} class="end" />
            {/each}
          {/if}
        </g>
      {/each}
      {#each dashed as bar, number (number)}
        <rect x={x(at(bar.start))} y={TOP + row[bar.output] * HIGH + above + 1} width={Math.max(2, x(at(bar.end)) - x(at(bar.start)))} height={HIGH - above - 5} class="other" />
      {/each}
    </g>
    {#if names}
      {#each lanes as lane, number (lane.name)}
        <rect x="0" y={TOP + number * HIGH} width={names} height={HIGH} class="behind" />
        <text x={names - 8} y={TOP + number * HIGH + HIGH / 2 + 4} class="name">{lane.label}</text>
      {/each}
    {:else}
      {#each lanes as lane, number (lane.name)}<text x="0" y={TOP + number * HIGH + 12} class="name small">{lane.label}</text>{/each}
    {/if}
    {#if now > begin && now < end}<line x1={x(now) + dragged} x2={x(now) + dragged} y1={TOP - 6} y2={TOP + lanes.length * HIGH} class="now" />{/if}
  </svg>
  <p aria-live="polite">{#if told}<strong>{lanes[row[told.output]].label} {told.words}</strong> {clock(told.start)} to {clock(told.end)}: {told.why}{:else}Press a bar to change its schedule; hover over it, or go there with Tab, to see why. Drag to look ahead.{/if}</p>
</div>

<style>
  .holder { width: 100%; }
  svg { touch-action: pan-y; cursor: grab; user-select: none; display: block; }
  svg.dragging { cursor: grabbing; }
  .lane { fill: color-mix(in oklab, var(--line) 40%, transparent); }
  .behind { fill: var(--stone); }
  .bar { fill: var(--well); }
  .bar.person { fill: var(--on); }
  .plan { cursor: pointer; }
  .picked .bar { stroke: var(--ink); stroke-width: 2; }
  .grip { fill: transparent; cursor: ew-resize; touch-action: none; }
  .end { stroke: var(--ink); stroke-width: 4; stroke-linecap: round; pointer-events: none; }
  .other { fill: none; stroke: var(--on); stroke-width: 2; stroke-dasharray: 5 3; }
  .tick { stroke: var(--line); }
  .now { stroke: var(--ill); stroke-width: 2; }
  text { font-size: 12px; fill: currentColor; }
  .when { fill: var(--quiet); }
  .name { text-anchor: end; }
  .name.small { text-anchor: start; font-size: 11px; fill: var(--quiet); }
  .words { fill: var(--stone); pointer-events: none; }
  g:focus-visible { outline: none; }
  g:focus-visible .bar { stroke: currentColor; stroke-width: 2; }
  p { font-size: 0.83rem; color: var(--quiet); min-height: 2.6em; padding-top: 0.4rem; }
</style>
