<!-- A program, looked at before it runs: its curve, its length, how often it writes. -->
<script lang="ts">
  import { untrack } from 'svelte'
  import * as api from '../state/api'
  import { later } from '../state/later'
  import { attempt } from '../state/live.svelte'
  import { number } from '../state/say'
  import type { Output, Preview, ProgramForm, Setting } from '../state/types'

  let { output }: { output: Output } = $props()

  const other = untrack(() => (output.takes === 'colour' ? 'coral' : output.wanted.on ? 'off' : '60 %'))
  const FIELDS: Record<string, [string, string, string][]> = {
    ramp: [['from', 'From', ''], ['to', 'To', other], ['over', 'Over', '5 s']],
    blink: [['lit', 'On for', '500 ms'], ['dark', 'Off for', '500 ms'], ['edge', 'Edges', '0 s'], ['times', 'Times (0: until released)', '5']],
    breathe: [['low', 'Low', 'off'], ['high', 'High', 'on'], ['in', 'In', '2 s'], ['out', 'Out', '3 s'], ['times', 'Times (0: until released)', '0']],
    candle: [['bright', 'Bright', ''], ['dim', 'Dim', '']],
  }
  const kinds = $derived(output.dimmable ? Object.keys(FIELDS) : ['blink'])
  let kind = $state('')
  let given = $state<Record<string, string>>({})
  let preview = $state<Preview>()
  let wrong = $state('')

  const chosen = $derived(kind || kinds[0])
  const program = $derived.by((): ProgramForm => {
    const form: ProgramForm = { kind: chosen }
    for (const [key, , usual] of FIELDS[chosen]) {
      const value = (given[`${chosen}.${key}`] ?? usual).trim()
      if (value) form[key] = key === 'times' ? Number(value) : value
    }
    return form
  })

  $effect(() => {
    const asked = program
    return later(150, () => api.preview(output.name, asked), (its) => ([preview, wrong] = [its, '']), (error) => (wrong = api.said(error)))
  })

  const WIDE = 480
  const HIGH = 90
  const height = (setting: Setting | null) =>
    setting?.colour ? Math.max(...[1, 3, 5].map((at) => parseInt(setting.colour!.slice(at, at + 2), 16))) / 2.55 : (setting?.level ?? 0)
  const x = (t: number) => (t / (preview?.shown_seconds || 1)) * WIDE
  const line = (of: (point: Preview['curve'][number]) => number) =>
    preview?.curve.map((point, number) => `${number ? 'L' : 'M'}${x(point[0]).toFixed(1)} ${(HIGH - (of(point) / 100) * HIGH).toFixed(1)}`).join('') ?? ''
</script>

<section aria-label="Program for {output.label}">
  <div class="fields">
    <label>Program <select class="select" value={chosen} onchange={(event) => (kind = event.currentTarget.value)}>
      {#each kinds as each (each)}<option value={each}>{each === 'ramp' ? 'fade' : each}</option>{/each}
    </select></label>
    {#each FIELDS[chosen] as [key, label, usual] (chosen + key)}
      <label>{label}<input class="input" value={given[`${chosen}.${key}`] ?? usual} placeholder="as it is" oninput={(event) => (given[`${chosen}.${key}`] = event.currentTarget.value)} /></label>
    {/each}
  </div>
  {#if wrong}
    <p class="wrong" role="alert">{wrong}</p>
  {:else if preview}
    <svg viewBox="0 -4 {WIDE} {HIGH + 8}" role="img" aria-label="Curve of the program">
      <path class="floor" d="M0 {HIGH}H{WIDE}" />
      {#if output.takes === 'level' && output.dimmable}<path class="duty" d={line((point) => point[2])} />{/if}
      <path d={line((point) => height(point[1]))} />
    </svg>
    <p>
      {preview.text}. {preview.seconds === null ? `Rounds of ${number(preview.round_seconds)} s` : `${number(preview.seconds)} s, then it ${preview.then === 'release' ? 'lets go' : `stays at ${preview.ends_at?.words}`}`};
      {preview.writes} writes in {number(preview.shown_seconds)} s.
      {#if output.takes === 'level' && output.dimmable}<span class="key">Solid: what is seen. Broken: the pin's duty.</span>{/if}
    </p>
  {/if}
  <button type="button" class="btn btn-sm preset-tonal-primary" disabled={Boolean(wrong)} onclick={() => attempt(() => api.run(output.name, program))}>Run it</button>
</section>

<style>
  section { margin-top: 0.7rem; padding-top: 0.6rem; border-top: 1px solid var(--line); }
  .fields { display: grid; grid-template-columns: repeat(auto-fit, minmax(6.5rem, 1fr)); gap: 0.5rem; margin-bottom: 0.5rem; }
  label { font-size: 0.75rem; color: var(--quiet); }
  svg { width: 100%; height: auto; }
  path { fill: none; stroke: var(--on); stroke-width: 2; vector-effect: non-scaling-stroke; }
  .duty { stroke: var(--quiet); stroke-width: 1; stroke-dasharray: 4 3; }
  .floor { stroke: var(--line); stroke-width: 1; }
  p { margin: 0.3rem 0 0.5rem; }
  .key { color: var(--quiet); }
  .wrong { color: var(--ill); }
</style>
