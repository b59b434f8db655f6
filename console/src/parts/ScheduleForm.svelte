<!-- A schedule being written: its rehearsed difference is shown before it is saved. -->
<script lang="ts">
  import * as api from '../state/api'
  import { later } from '../state/later'
  import type { Problem } from '../state/api'
  import { CODES, week } from '../state/say'
  import TimeField from './TimeField.svelte'
  import { attempt } from '../state/live.svelte'
  import type { Difference, Schedule } from '../state/types'

  let { schedule, fresh, from, to, differs, done, moved = {} }: {
    /** Times that were dragged elsewhere. */
    moved?: { from?: string; to?: string }
    schedule: Partial<Schedule>; fresh: boolean; from: string; to: string; differs: (found: Difference[]) => void; done: () => void
  } = $props()

  const WEEK = week()
  // svelte-ignore state_referenced_locally
  let form = $state({
    name: schedule.name ?? '', do: schedule.do ?? '', from: schedule.from ?? '18:00', to: schedule.to ?? '', for: schedule.for ?? '',
    repeat: schedule.repeat ?? 'FREQ=DAILY', starts: schedule.starts ?? '',
  })
  $effect(() => {
    if (moved.from) form.from = moved.from
    if (moved.to) form.to = moved.to
  })
  let wrong = $state('')
  let key = $state('')
  let found = $state<Difference[]>([])

  const weekly = $derived(form.repeat.startsWith('FREQ=WEEKLY;BYDAY=') ? form.repeat.slice(18).split(',') : form.repeat === 'FREQ=DAILY' ? CODES : [])
  function day(name: string): void {
    const days = weekly.includes(name) ? weekly.filter((each) => each !== name) : [...weekly, name]
    form.repeat = days.length === 7 ? 'FREQ=DAILY' : `FREQ=WEEKLY;BYDAY=${CODES.filter((each) => days.includes(each)).join(',')}`
  }
  const facts = $derived(Object.fromEntries(Object.entries(form).filter(([, value]) => value.trim())))

  $effect(() => {
    const asked = facts
    if (!asked.name || !asked.do) return
    return later(
      300,
      () => api.rehearse(from, to, { put: asked }),
      (its) => {
        found = its.differences ?? []
        ;[wrong, key] = ['', '']
        differs(found)
      },
      (error) => {
        wrong = api.said(error)
        key = String((error as Problem).more.key ?? '')
        differs([])
      },
    )
  })

  async function save(event: SubmitEvent): Promise<void> {
    event.preventDefault()
    if (await attempt(() => (fresh ? api.addSchedule(facts) : api.putSchedule(facts)))) done()
  }
</script>

<form onsubmit={save} aria-label={fresh ? 'New schedule' : `Schedule ${form.name}`}>
  <label>Name<input class="input" bind:value={form.name} readonly={!fresh} class:bad={key === 'name'} required /></label>
  <label class="wide">Does<input class="input" bind:value={form.do} class:bad={key === 'do'} placeholder="turn gallery to 60 % over 30 s" required /></label>
  <TimeField label="From" bind:value={form.from} bad={key === 'from'} required />
  <TimeField label="To" bind:value={form.to} bad={key === 'to'} />
  <label>or for<input class="input" bind:value={form.for} class:bad={key === 'for'} placeholder="2 h" /></label>
  <fieldset>
    <legend>Days</legend>
    {#each WEEK as { code, name } (code)}<label class="day"><input type="checkbox" class="checkbox" checked={weekly.includes(code)} onchange={() => day(code)} /> {name}</label>{/each}
  </fieldset>
  <label>First day<input class="input" type="date" bind:value={form.starts} /></label>
  <details class="wide" open={key === 'repeat'}>
    <summary>Other days than those of a week</summary>
    <label>Rule (RFC 5545)<input class="input" bind:value={form.repeat} class:bad={key === 'repeat'} /></label>
  </details>
  <p class="wide" aria-live="polite">
    {#if wrong}<span class="wrong">{wrong}</span>
    {:else if found.length}In the time shown, {found.filter((each) => each.would_be).length} times would be new and {found.filter((each) => each.was).length} would be gone: the broken lines above.
    {:else if form.name && form.do}In the time shown, nothing would differ.{/if}
  </p>
  <div class="row">
    <button type="submit" class="btn btn-sm preset-filled-primary-500" disabled={Boolean(wrong)}>Save</button>
    <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={done}>Cancel</button>
  </div>
</form>

<style>
  form { display: grid; grid-template-columns: repeat(auto-fit, minmax(9rem, 1fr)); gap: 0.5rem 0.8rem; padding: 0.7rem 0; border-top: 1px solid var(--line); }
  label, legend { font-size: 0.75rem; color: var(--quiet); }
  .wide { grid-column: span 2; }
  fieldset { grid-column: 1 / -1; display: flex; flex-wrap: wrap; gap: 0.2rem 0.9rem; }
  summary { display: list-item; min-height: 2.75rem; padding-block: 0.6rem; cursor: pointer; font-size: 0.83rem; }
  .input { min-height: 2.75rem; }
  .btn { min-height: 2.75rem; }
  .day { min-height: 2.75rem; display: flex; gap: 0.3rem; align-items: center; color: inherit; }
  .bad { border-color: var(--ill); }
  .wrong { color: var(--ill); }
  p { font-size: 0.83rem; color: var(--quiet); }
  .row { grid-column: 1 / -1; display: flex; gap: 0.5rem; }
</style>
