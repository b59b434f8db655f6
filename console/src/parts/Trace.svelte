<!-- One trace on the common time axis, drawn by uPlot. -->
<script lang="ts">
  import uPlot from 'uplot'
  import 'uplot/dist/uPlot.min.css'
  import { onMount } from 'svelte'
  import type { SignalKind } from '../state/types'
  import { span, type Shown } from '../state/waves'

  let { label, kind, points, from, to, marks, last = false, zoom, pick }: {
    label: string; kind: SignalKind; points: Shown; from: number; to: number; marks: (number | undefined)[]; last?: boolean
    zoom: (from: number, to: number) => void; pick: (x: number) => void
  } = $props()

  let holder: HTMLDivElement
  let plot: uPlot | undefined

  onMount(() => {
    const probe = document.createElement('span')
    holder.append(probe)
    const real = (name: string) => { probe.style.color = `var(${name})`; return getComputedStyle(probe).color }
    const [ink, line, quiet] = [real('--on'), real('--line'), real('--quiet')]
    probe.remove()
    const stepped = uPlot.paths.stepped!({ align: 1 })
    plot = new uPlot(
      {
        width: holder.clientWidth, height: last ? 108 : 84, legend: { show: false }, padding: [6, 20, 0, 0],
        cursor: { sync: { key: 'signals' }, drag: { x: true, y: false, setScale: false }, y: false, points: { show: false } },
        scales: { x: { time: false, range: () => [from, to] }, y: { range: () => [points.low - (points.high - points.low) * 0.08, points.high + (points.high - points.low) * 0.08] } },
        axes: [
          { show: true, size: last ? 34 : 8, stroke: quiet, ticks: { show: last, stroke: line }, grid: { stroke: line, width: 1 }, values: (_, ticks) => ticks.map((tick) => (last ? (tick ? span(tick) : 'now') : '')) },
          { size: 62, stroke: quiet, ticks: { stroke: line }, grid: { show: false }, splits: () => (kind === 'digital' || points.wave ? [points.low, points.high] : [points.low, (points.low + points.high) / 2, points.high]),
            values: (_, ticks) => ticks.map((tick) => (kind === 'digital' ? (tick ? 'on' : 'off') : points.wave ? (tick ? 'high' : 'low') : `${Number(tick.toPrecision(3))}`)) },
        ],
        series: [{}, { stroke: ink, width: 1.6, paths: kind === 'analogue' ? uPlot.paths.linear!() : stepped, points: { show: false } }],
        hooks: {
          setSelect: [(self) => {
            if (self.select.width > 4) zoom(self.posToVal(self.select.left, 'x'), self.posToVal(self.select.left + self.select.width, 'x'))
            self.setSelect({ left: 0, width: 0, top: 0, height: 0 }, false)
          }],
          draw: [(self) => {
            marks.forEach((mark, number) => {
              if (mark === undefined || mark < from || mark > to) return
              const x = self.valToPos(mark, 'x', true)
              self.ctx.save()
              self.ctx.strokeStyle = quiet
              self.ctx.setLineDash(number ? [2, 4] : [8, 3])
              self.ctx.beginPath()
              self.ctx.moveTo(x, self.bbox.top)
              self.ctx.lineTo(x, self.bbox.top + self.bbox.height)
              self.ctx.stroke()
              self.ctx.restore()
            })
          }],
        },
      },
      [points.xs, points.ys] as uPlot.AlignedData,
      holder,
    )
    plot.over.addEventListener('click', () => { if (plot) pick(plot.posToVal(plot.cursor.left ?? 0, 'x')) })
    const watcher = new ResizeObserver(() => plot?.setSize({ width: holder.clientWidth, height: last ? 108 : 84 }))
    watcher.observe(holder)
    return () => { watcher.disconnect(); plot?.destroy() }
  })

  $effect(() => {
    void [from, to, marks, points]
    plot?.setData([points.xs, points.ys] as uPlot.AlignedData)
  })
</script>

<div bind:this={holder} class="trace" role="img" aria-label="Trace of {label}"></div>

<style>
  .trace { min-width: 0; }
</style>
