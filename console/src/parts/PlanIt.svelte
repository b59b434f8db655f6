<!-- An output on the plan without typing: from when to when, on which days. What would differ is rehearsed before it is saved. -->
<script lang="ts">
  import * as api from '../state/api'
  import { later } from '../state/later'
  import { dayOf, live, note } from '../state/live.svelte'
  import { serviceTime } from '../state/link.svelte'
  import { CODES, week } from '../state/say'
  import type { Output } from '../state/types'

  let { output, done }: { output: Output; done: () => void } = $props()

  const WEEK = week()
  const BEGINS = [['at sunset', 'sunset'], ['at sunrise', 'sunrise'], ['at', '']] as const
  // svelte-ignore state_referenced_locally
  let level = $state(Math.round(output.confirmed?.level || 100))
  let begins = $state<string>(live.site?.latitude === null ? '' : 'sunset')
  let from = $state('18:00')
  let to = $state('22:30')
  let days = $state([...CODES])
  let said = $state('')
  let wrong = $state('')
  let busy = $state(false)

  const facts = $derived({
    name: `${output.label} ${begins || from}`.slice(0, 60),
    do: output.takes === 'level' && output.dimmable && level < 100 ? `turn ${output.name} to ${level} %` : `turn ${output.name} on`,
    from: begins || from,
    to,
    repeat: days.length === 7 ? 'FREQ=DAILY' : `FREQ=WEEKLY;BYDAY=${CODES.filter((each) => days.includes(each)).join(',')}`,
  })

  $effect(() => {
    const asked = facts
    if (!days.length) return void ([said, wrong] = ['', 'Choose at least one day.'])
    return later(
      250,
      () => api.rehearse(dayOf(serviceTime()), dayOf(serviceTime() + 7 * 86_400_000), { put: asked }),
      (its) => {
        const fresh = (its.differences ?? []).filter((each) => each.would_be)
        ;[wrong, said] = ['', fresh.length ? `In the next seven days ${fresh.length === 1 ? 'one time' : `${fresh.length} times`} would be new.` : 'In the next seven days nothing would differ.']
      },
      (error) => (wrong = api.said(error)),
    )
  })

  async function save(event: SubmitEvent): Promise<void> {
    event.preventDefault()
    busy = true
    const asked = { ...facts }
    try {
      const taken = new Set((await api.plan()).schedules.map((each) => each.name))
      for (let number = 2; taken.has(asked.name); number++) asked.name = `${facts.name} ${number}`
      await api.addSchedule(asked)
      note(`'${asked.name}' is on the plan.`, '', () => api.dropSchedule(asked.name))
      done()
    } catch (error) {
      wrong = api.said(error)
    }
    busy = false
  }
</script>

<form onsubmit={save} aria-label="Plan {output.label}">
  <div class="row">
    <label>On <select class="select" bind:value={begins}>{#each BEGINS as [words, value] (value)}{#if value === '' || live.site?.latitude !== null}<option {value}>{words}</option>{/if}{/each}</select></label>
    {#if !begins}<label>From <input class="input" type="time" bind:value={from} required /></label>{/if}
    <label>Off at <input class="input" type="time" bind:value={to} required /></label>
    {#if output.takes === 'level' && output.dimmable}<label>Level <select class="select" bind:value={level}>{#each [...new Set([100, 80, 60, 40, 20, level])].sort((a, b) => b - a) as each (each)}<option value={each}>{each} %</option>{/each}</select></label>{/if}
  </div>
  <fieldset>
    <legend>On these days</legend>
    {#each WEEK as { code, name } (code)}<label class="day"><input type="checkbox" class="checkbox" bind:group={days} value={code} /> {name}</label>{/each}
  </fieldset>
  <p aria-live="polite">{#if wrong}<span class="wrong">{wrong}</span>{:else}{said}{/if}</p>
  <button type="submit" class="btn preset-filled-primary-500" disabled={busy || Boolean(wrong)}>Put it on the plan</button>
</form>

<style>
  form { padding: 0.8rem 0.9rem; border: 1px solid var(--line); border-radius: var(--radius-base); }
  .row { display: flex; flex-wrap: wrap; gap: 0.6rem; }
  label, legend { font-size: 0.8rem; color: var(--soft); }
  .select, .input { display: block; width: auto; min-height: 2.75rem; color: var(--ink); }
  fieldset { display: flex; flex-wrap: wrap; gap: 0 0.8rem; margin-top: 0.5rem; }
  .day { display: flex; gap: 0.35rem; align-items: center; min-height: 2.75rem; color: var(--ink); }
  p { min-height: 1.5rem; font-size: 0.9rem; color: var(--soft); margin-bottom: 0.4rem; }
  .wrong { color: var(--ill); }
</style>
