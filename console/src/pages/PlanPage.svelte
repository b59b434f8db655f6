<!-- The plan: a day or a week of it as rehearsed, its schedules and timers. It shows GET /api/v1/plan and POST /api/v1/plan/rehearsals. -->
<script lang="ts">
  import { onMount } from 'svelte'
  import * as api from '../state/api'
  import Lanes from '../parts/Lanes.svelte'
  import { attempt, live } from '../state/live.svelte'
  import { inZone, isoTime, places } from '../state/say'
  import ScheduleForm from '../parts/ScheduleForm.svelte'
  import type { Bar, CalendarLine, Difference, Plan, Rehearsal, Schedule } from '../state/types'

  const DAY = 86_400_000
  let plan = $state<Plan>()
  let found = $state.raw<Rehearsal>()
  let days = $state(7)
  let begin = $state(midnight(Date.now()))
  /** What is being written; `above` where it was picked in the lanes. */
  let edited = $state<{ schedule: Partial<Schedule>; fresh: boolean; above?: boolean }>()
  let moved = $state<{ from?: string; to?: string }>({})
  let differences = $state<Difference[]>([])
  let dropping = $state('')
  let lines = $state<CalendarLine[]>()
  let link = $state('')
  const end = $derived(begin + days * DAY)
  const zone = $derived(live.site?.timezone ?? 'UTC')
  const iso = (at: number) => new Date(at).toISOString()

  /** The beginning of the day at the site. */
  function midnight(at: number): number {
    const [hours, minutes, seconds] = isoTime(live.site?.timezone ?? 'UTC', at, true).split(':').map(Number)
    return at - (at % 1000) - ((hours * 60 + minutes) * 60 + seconds) * 1000
  }

  async function look(): Promise<void> {
    await attempt(async () => {
      plan = await api.plan()
      found = (await api.rehearse(iso(begin), iso(end))).plan
    })
  }
  onMount(() => {
    const timer = setInterval(() => void attempt(async () => (plan = await api.plan())), 5000)
    return () => clearInterval(timer)
  })
  $effect(() => {
    void [begin, days, live.planned]
    void look()
  })

  const busy = $derived(new Set([...(found?.bars ?? []).filter((bar) => bar.on).map((bar) => bar.output), ...differences.flatMap((each) => (each.would_be ? [each.would_be.output] : []))]))
  const lanes = $derived(Object.values(live.outputs).filter((output) => busy.has(output.name)).map(({ name, label }) => ({ name, label })))
  const say = (text: string | undefined, options: Intl.DateTimeFormatOptions) => (text ? inZone(zone, options).format(new Date(text)) : '')
  const moment = (text: string | undefined) => say(text, { weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' })
  const title = $derived(days === 1 ? say(iso(begin), { weekday: 'long', day: 'numeric', month: 'long', year: 'numeric' }) : `${say(iso(begin), { day: 'numeric', month: 'short' })} to ${say(iso(end - 1), { day: 'numeric', month: 'short', year: 'numeric' })}`)

  const CLOCK = /^\d\d:\d\d$/
  const scheduleOf = (bar: Bar) => plan?.schedules.find((each) => bar.by === `'${each.name}' (plan)`)
  const editable = $derived(edited?.above && edited.schedule.origin === 'database' && CLOCK.test(edited.schedule.from ?? '') && CLOCK.test(edited.schedule.to ?? ''))

  function edit(schedule: Partial<Schedule>, fresh: boolean, above = false): void {
    ;[moved, differences] = [{}, []]
    edited = { schedule, fresh, above }
  }
  function done(): void {
    ;[edited, moved, differences] = [undefined, {}, []]
    void look()
  }

  const act = (action: () => Promise<unknown>) => attempt(action).then(look)
  function drop(name: string): void {
    if (dropping !== name) return void (dropping = name)
    dropping = ''
    void act(() => api.dropSchedule(name))
  }
  async function take(event: Event): Promise<void> {
    const input = event.currentTarget as HTMLInputElement
    const file = input.files?.[0]
    if (file) await act(async () => (lines = (await api.takeCalendar(await file.text())).events))
    input.value = ''
  }
</script>

<main id="content" tabindex="-1">
  <section class="card" aria-label="Rehearsal">
    <div class="row">
      <div role="group" aria-label="How much is shown" class="row">
        {#each [[1, 'Day'], [7, 'Week']] as [size, word] (size)}
          <button type="button" class="btn btn-sm {days === size ? 'preset-filled-primary-500' : 'preset-outlined-surface-500'}" aria-pressed={days === size} onclick={() => (days = size as number)}>{word}</button>
        {/each}
      </div>
      <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => (begin = midnight(begin - days * DAY + DAY / 2))}>Earlier</button>
      <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => (begin = midnight(Date.now()))}>Today</button>
      <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => (begin = midnight(begin + days * DAY + DAY / 2))}>Later</button>
      <h2>{title}</h2>
    </div>
    {#if found && lanes.length}
      <Lanes bars={found.bars} others={differences.flatMap((each) => (each.would_be ? [each.would_be] : []))} {lanes} {begin} {end} {zone} shift={(by) => (begin = midnight(begin + Math.round(by / DAY) * DAY + DAY / 2))}
        pick={(bar) => { const schedule = scheduleOf(bar); if (schedule) edit(schedule, false, true) }} picked={(bar) => Boolean(edited?.above && scheduleOf(bar)?.name === edited.schedule.name)}
        move={editable ? (_, which, time) => (moved = { ...moved, [which]: isoTime(zone, time) }) : undefined} />
      {#if edited?.above}
        <h3>{edited.schedule.name}</h3>
        {#if edited.schedule.origin === 'database'}
          {#if editable}<p class="quiet">Drag the ends of its bar, or write the times. Nothing is changed until it is saved.</p>{/if}
          {#key edited.schedule.name}<ScheduleForm schedule={edited.schedule} fresh={false} {moved} from={iso(begin)} to={iso(end)} differs={(each) => (differences = each)} {done} />{/key}
        {:else}<p>It stands in the site file: change it there and read the file anew. Here it can be disabled, skipped and run, below. <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={done}>Close</button></p>{/if}
      {/if}
    {:else if found}<p class="quiet">The plan switches nothing on in that time.</p>{/if}
    {#if found}<p class="quiet">As the plan alone would have it, from the first day shown; green is the plan.</p>{/if}
    {#if found?.collisions.length}
      <details><summary>{found.collisions.length} {found.collisions.length === 1 ? 'collision' : 'collisions'}</summary><ul>{#each found.collisions as each, number (number)}<li>{moment(each.at)}, {live.outputs[each.output]?.label}: {each.text}</li>{/each}</ul></details>
    {/if}
    {#if found?.held_back.length}
      <details><summary>{found.held_back.length} held back, with contacts as they are at rest</summary><ul>{#each found.held_back as each, number (number)}<li>{moment(each.at)}, {live.outputs[each.output]?.label}: {each.text}</li>{/each}</ul></details>
    {/if}
    {#if found?.totals.length}
      <details>
        <summary>What each output will have done by then</summary>
        <table>
          <thead><tr><th>Output</th><th>hours on</th><th>switched on</th><th>kWh</th></tr></thead>
          <tbody>{#each found.totals as row (row.output)}<tr><td>{row.label}</td><td>{places(row.hours_on, 2)}</td><td>{row.switchings}</td><td>{row.kilowatt_hours === null ? '' : places(row.kilowatt_hours, 3)}</td></tr>{/each}</tbody>
        </table>
      </details>
    {/if}
  </section>

  <section class="card" aria-label="Schedules">
    <div class="row"><h2>Schedules</h2><span class="room"></span><button type="button" class="btn btn-sm preset-tonal-primary" onclick={() => edit({}, true)}>New schedule</button></div>
    {#if edited?.fresh}<ScheduleForm schedule={edited.schedule} fresh from={iso(begin)} to={iso(end)} differs={(each) => (differences = each)} {done} />{/if}
    <ul class="list">
      {#each plan?.schedules ?? [] as schedule (schedule.name)}
        <li>
          <div class="head" class:off={!schedule.enabled}>
            <strong>{schedule.name}</strong>
            <span class="quiet">{schedule.when}; {schedule.origin}</span>
            <code>{schedule.do}</code>
            <span class={schedule.running_until ? 'running' : 'quiet'}>{!schedule.enabled ? 'disabled' : schedule.running_until ? `now, until ${moment(schedule.running_until)}` : schedule.next.length ? `next ${moment(schedule.next[0][0])}` : 'never again'}</span>
          </div>
          <div class="row">
            <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => act(() => api.changeSchedule(schedule.name, { enabled: !schedule.enabled }))}>{schedule.enabled ? 'Disable' : 'Enable'}</button>
            <button type="button" class="btn btn-sm preset-outlined-surface-500" disabled={!schedule.next.length} onclick={() => act(() => api.changeSchedule(schedule.name, { skip_next: true }))}>Skip next</button>
            <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => act(() => api.changeSchedule(schedule.name, { run_now: true }))}>Run now</button>
            {#if schedule.origin === 'database'}
              <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => edit(schedule, false)}>Edit</button>
              <button type="button" class="btn btn-sm {dropping === schedule.name ? 'preset-filled-error-500' : 'preset-outlined-surface-500'}" onclick={() => drop(schedule.name)} onblur={() => (dropping = '')}>{dropping === schedule.name ? 'Really drop it?' : 'Drop'}</button>
            {/if}
          </div>
          {#if edited && !edited.fresh && !edited.above && edited.schedule.name === schedule.name}<ScheduleForm {schedule} fresh={false} from={iso(begin)} to={iso(end)} differs={(each) => (differences = each)} {done} />{/if}
        </li>
      {:else}<li class="quiet">No schedules yet.</li>{/each}
    </ul>
  </section>

  <section class="card" aria-label="Timers">
    <h2>Timers</h2>
    <ul class="list">
      {#each plan?.timers ?? [] as timer (`${timer.kind} ${timer.id}`)}
        <li><span>{timer.text}</span> <span class="quiet">{timer.kind === 'claim' ? 'until' : ''} {moment(timer.due)}{timer.every_seconds ? `, every ${timer.every_seconds} s` : ''}</span>
          <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => act(() => api.extendTimer(timer.id, '10 min'))}>10 min longer</button>
          <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => act(() => api.cancelTimer(timer.id))}>Cancel</button></li>
      {:else}<li class="quiet">None. Say one on the page Now: after 5 min turn bench-lamp off.</li>{/each}
    </ul>
  </section>

  <section class="card" aria-label="Calendars">
    <div class="row">
      <h2>Calendars</h2>
      {#if live.keeps}<button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => act(async () => (link = (await api.calendarLink()).link))}>New address for a phone's calendar</button>{/if}
      <label class="btn btn-sm preset-outlined-surface-500">Take events from a file<input type="file" accept=".ics,text/calendar" onchange={take} /></label>
    </div>
    {#if link}<p>Subscribe to <code>{link}</code> <span class="quiet">It can only read the plan. A new address ends this one.</span></p>{/if}
    {#if lines}<ul class="list">{#each lines as line, number (number)}<li><strong>{line.title}</strong> {line.outcome}: <span class="quiet">{line.why}</span></li>{:else}<li>The calendar has no events.</li>{/each}</ul>{/if}
  </section>
</main>

<style>
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.8rem 1rem; margin-bottom: 1rem; }
  .row { display: flex; flex-wrap: wrap; gap: 0.5rem; align-items: center; }
  .room { flex: 1; }
  h2 { font-size: 1rem; font-weight: 700; margin-inline: 0.3rem; }
  h3 { font-size: 0.95rem; font-weight: 650; margin-top: 0.4rem; }
  .quiet, summary { color: var(--quiet); font-size: 0.83rem; }
  summary { cursor: pointer; min-height: 2.75rem; display: list-item; padding-block: 0.6rem; }
  .running { color: var(--well); font-size: 0.83rem; font-weight: 600; }
  .list li { display: flex; flex-wrap: wrap; gap: 0.4rem 0.9rem; align-items: center; padding: 0.55rem 0; border-top: 1px solid var(--line); }
  .list li > :global(form) { flex-basis: 100%; }
  .head { display: flex; flex-wrap: wrap; gap: 0.1rem 0.9rem; align-items: baseline; flex: 1 1 24rem; }
  .head.off strong { text-decoration: line-through; }
  code { font-size: 0.83rem; overflow-wrap: anywhere; }
  table { font-size: 0.83rem; margin-top: 0.4rem; }
  th { text-align: right; color: var(--quiet); font-weight: 400; padding-right: 1.2rem; }
  td { text-align: right; padding: 0.1rem 1.2rem 0.1rem 0; }
  th:first-child, td:first-child { text-align: left; }
  input[type='file'] { position: absolute; opacity: 0; width: 1px; height: 1px; }
  label:focus-within { outline: 2px solid var(--on); outline-offset: 2px; }
</style>
