<!-- A bare pin is tried for as long as this is open: PUT …/trial again and again, under a lease. Closing lets it go. -->
<script lang="ts">
  import { onDestroy } from 'svelte'
  import * as api from '../state/api'
  import { live } from '../state/live.svelte'
  import { places } from '../state/say'
  import EditForm from './EditForm.svelte'
  import type { PinForm, Tried } from '../state/types'

  let { board, pin, close }: { board: string; pin: PinForm; close: () => void } = $props()

  const place = $derived(pin.position ?? `line-${pin.line}`)
  const owned = $derived(pin.user.split(' ')[1])
  const modes = $derived(
    owned ? ['pwm'] : ['output', 'input', 'count', ...(['pwm', 'tone', 'analogue'] as const).filter((mode) => pin.can === null || pin.can.includes(mode))],
  )
  let mode = $state('')
  let level = $state('high')
  let frequency = $state('800 Hz')
  let duty = $state('25 %')
  let pull = $state('none')
  let running = $state(false)
  let tried = $state<Tried>()
  let wrong = $state('')
  let held: { board: string; place: string } | undefined // as it was taken: the page may show another board by the end
  let timer: ReturnType<typeof setTimeout> | undefined

  const chosen = $derived(mode || modes[0])
  let keeping = $state(false)
  const KEPT: Record<string, [string, string]> = { output: ['output', 'relay'], pwm: ['output', 'lamp'], tone: ['output', 'sounder'], input: ['input', 'contact'], analogue: ['input', 'analogue'], count: ['input', 'counter'] }
  /** What it becomes that was tried, with all that is known of it by now. */
  const kept = $derived({
    kind: KEPT[chosen][1], pin: pin.pin ?? '', ...(chosen === 'pwm' ? { frequency } : {}), ...(chosen === 'output' && level === 'low' ? { sense: 'active-low' } : {}),
    ...((chosen === 'input' || chosen === 'count') && pull !== 'none' ? { pull } : {}),
  })
  const how = $derived<Record<string, string>>({
    mode: chosen,
    ...(chosen === 'output' ? { level } : {}),
    ...(chosen === 'pwm' ? { frequency, duty } : {}),
    ...(chosen === 'tone' ? { frequency } : {}),
    ...(chosen === 'input' || chosen === 'count' ? { pull } : {}),
  })

  async function turn(): Promise<void> {
    try {
      held = { board, place }
      tried = await api.tryPin(board, place, how)
      wrong = ''
    } catch (error) {
      wrong = api.said(error)
      running = false
    }
    if (running) timer = setTimeout(turn, 300)
  }

  function start(): void {
    running = true
    void turn()
  }

  async function stop(): Promise<void> {
    running = false
    clearTimeout(timer)
    const its = held
    held = tried = undefined
    if (its) await api.endTry(its.board, its.place).catch(() => undefined)
  }

  onDestroy(() => void stop())

  const reads = $derived.by(() => {
    const reading = tried?.trial.reading
    if (!reading) return ''
    const parts: string[] = []
    if (reading.raw !== null) parts.push(`${reading.raw} of ${reading.full}${reading.volts === null ? '' : ` = ${places(reading.volts, 3)} V`}`)
    else if (reading.high !== null) parts.push(reading.high === 0 ? 'low' : reading.high === 100 ? 'high' : `high ${places(reading.high, 1)} %`)
    if (reading.count !== null) parts.push(`${reading.count} edges`)
    if (reading.period_ns) parts.push(`period ${places(reading.period_ns / 1000, 1)} µs`)
    return parts.join(', ')
  })
</script>

<section class="card" aria-label="Try {place}" {@attach (its) => its.scrollIntoView({ block: 'nearest' })}>
  <h3>Try {place}{pin.position ? ` (line ${pin.line})` : ''}</h3>
  <p class="quiet">
    {owned ? `It belongs to ${owned}: another frequency and duty can be tried live.` : 'Nobody owns it. It is let go when you stop, close this, or go away.'}
    {pin.bears ? `It bears ${pin.bears} V.` : ''}
  </p>
  <div class="fields">
    <label>As <select class="select" value={chosen} onchange={(event) => ((mode = event.currentTarget.value), void stop())}>
      {#each modes as each (each)}<option>{each}</option>{/each}
    </select></label>
    {#if chosen === 'output'}<label>Level <select class="select" bind:value={level}><option>high</option><option>low</option></select></label>{/if}
    {#if chosen === 'pwm' || chosen === 'tone'}<label>Frequency <input class="input" bind:value={frequency} /></label>{/if}
    {#if chosen === 'pwm'}<label>Duty <input class="input" bind:value={duty} /></label>{/if}
    {#if chosen === 'input' || chosen === 'count'}<label>Pull <select class="select" bind:value={pull}><option>none</option><option>up</option><option>down</option></select></label>{/if}
  </div>
  <div class="row">
    {#if running}
      <button type="button" class="btn preset-filled-primary-500" onclick={stop}>Let go</button>
    {:else}
      <button type="button" class="btn preset-tonal-primary" onclick={start}>Try it</button>
    {/if}
    {#if !owned && live.keeps}<button type="button" class="btn preset-tonal-primary" aria-expanded={keeping} onclick={() => (keeping = !keeping)}>Keep it …</button>{/if}
    {#if owned && live.keeps}<a class="btn preset-outlined-surface-500" href="#site/changes/{pin.user.split(' ')[0]}/{owned}">Change {owned} …</a>{/if}
    <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={close}>Close</button>
    <output class="reads" aria-live="polite">{wrong ? '' : reads}</output>
  </div>
  {#if wrong}<p class="wrong" role="alert">{wrong}</p>{/if}
  {#if keeping}{#key chosen}<EditForm what={KEPT[chosen][0]} fresh known={kept} done={(applied) => { keeping = false; if (applied) void stop().then(close) }} />{/key}{/if}
</section>

<style>
  .card { background: var(--stone); border: 1px solid var(--on); border-radius: var(--radius-container); padding: 0.8rem 1rem 1rem; margin-bottom: 1rem; font-size: 0.9rem; }
  .card { scroll-margin: 5rem; }
  h3 { font-weight: 600; }
  .quiet { color: var(--quiet); font-size: 0.82rem; }
  .fields { display: grid; grid-template-columns: repeat(auto-fit, minmax(7rem, 1fr)); gap: 0.6rem; margin: 0.6rem 0; }
  label { font-size: 0.78rem; color: var(--quiet); }
  .row .btn { min-height: 2.75rem; }
  .row { display: flex; flex-wrap: wrap; align-items: center; gap: 0.6rem; }
  .reads { font-weight: 600; color: var(--on); }
  .wrong { color: var(--ill); margin-top: 0.5rem; }
</style>
