<!-- Journal: what happened, the newest first, followed as it comes; by day, subject, kind, source and words; saved as a file; and why an
     output was so at the moment of any row. It shows GET /api/v1/journal and …/why?at=. -->
<script lang="ts">
  import { onDestroy, onMount } from 'svelte'
  import * as api from '../state/api'
  import { attempt, dayOf, live } from '../state/live.svelte'
  import { serviceTime } from '../state/link.svelte'
  import { inZone } from '../state/say'
  import type { JournalRow, Why } from '../state/types'

  let { subject: first = '' }: { subject?: string } = $props()

  const KINDS = ['', 'command', 'change', 'input', 'gate', 'plan', 'timer', 'ended', 'note', 'link', 'fault', 'alarm', 'clock']
  const EVERY = 1000
  const MOST = 20_000
  /** Milliseconds after a row by which what it began has come to be. */
  const SETTLED = 250
  // svelte-ignore state_referenced_locally
  let subject = $state(first)
  let kind = $state('')
  let source = $state('')
  let words = $state('')
  /** What the whole journal is searched for; while something else is typed, only what is shown is. */
  let searched = $state('')
  let day = $state('')
  let until = $state('')
  let follows = $state(true)
  let rows = $state.raw<JournalRow[]>([])
  let next = $state<string | null>(null)
  let why = $state<{ row: number; found?: Why; wrong?: string }>()
  let saving = $state('')
  let question = 0 // an answer to an older one comes too late
  let timer: ReturnType<typeof setTimeout> | undefined

  const zone = $derived(live.site?.timezone ?? 'UTC')
  const things = $derived([...Object.values(live.outputs), ...Object.values(live.inputs)].map(({ name, label }) => ({ name, label })))
  const time = $derived(inZone(zone, { hour: '2-digit', minute: '2-digit', second: '2-digit' }))
  const date = $derived(inZone(zone, { weekday: 'long', day: 'numeric', month: 'long', year: 'numeric' }))
  const after = (date: string) => new Date(Date.parse(`${date}T12:00:00Z`) + 86_400_000).toISOString().slice(0, 10)
  const asked = () => ({ subject, kind, source, words: searched, from: day, to: until ? after(until) : day ? after(day) : '' })
  const today = $derived(dayOf(serviceTime()))
  const shown = $derived.by(() => {
    const all = words.toLowerCase().split(/\s+/).filter(Boolean)
    return all.length && words !== searched ? rows.filter((row) => all.every((word) => `${row.text} ${row.source ?? ''} ${row.subject ?? ''}`.toLowerCase().includes(word))) : rows
  })
  const days = $derived.by(() => {
    const found = new Map<string, JournalRow[]>()
    for (const row of shown) {
      const name = date.format(new Date(row.at))
      if (!found.has(name)) found.set(name, [])
      found.get(name)!.push(row)
    }
    return [...found]
  })

  async function look(): Promise<void> {
    why = undefined
    const mine = ++question
    await attempt(async () => {
      const found = await api.journal(asked())
      if (mine === question) ({ rows, next } = found)
    })
  }
  const more = () => attempt(async () => {
    const [mine, asks] = [question, next]
    const found = await api.journalAt(next!)
    if (mine === question && next === asks) [rows, next] = [[...rows, ...found.rows], found.next]
  })

  async function follow(): Promise<void> {
    clearTimeout(timer)
    if (follows && !live.lost && (!day || day === today || until >= today) && rows.length) {
      try {
        const [mine, last] = [question, rows[0].sequence]
        const found = await api.journal({ ...asked(), after: String(last) })
        if (found.rows.length && mine === question && rows[0]?.sequence === last) rows = [...[...found.rows].reverse(), ...rows]
      } catch {
        // the frame says that the service is away
      }
    } else if (follows && !live.lost && !rows.length) await look()
    timer = setTimeout(follow, EVERY)
  }
  onMount(async () => {
    await look()
    void follow()
  })
  onDestroy(() => clearTimeout(timer))

  async function explain(row: JournalRow): Promise<void> {
    if (why?.row === row.sequence) return void (why = undefined)
    why = { row: row.sequence }
    try {
      why = { row: row.sequence, found: await api.why(row.subject!, new Date(Date.parse(row.at) + SETTLED).toISOString()) }
    } catch (error) {
      why = { row: row.sequence, wrong: api.said(error) }
    }
  }

  /** Everything of the days, subject, kind, source and words, as a file. */
  async function save(form: 'csv' | 'json'): Promise<void> {
    const all: JournalRow[] = []
    await attempt(async () => {
      let page = await api.journal({ ...asked(), limit: '1000' })
      all.push(...page.rows)
      while (page.next && all.length < MOST) {
        saving = `${all.length} rows so far …`
        page = await api.journalAt(page.next)
        all.push(...page.rows)
      }
      const cell = (value: unknown) => `"${String(value ?? '').replaceAll('"', '""')}"`
      const text = form === 'json' ? JSON.stringify(all, null, 1) : ['sequence,at,kind,subject,text,source', ...all.map((row) => [row.sequence, row.at, row.kind, row.subject, row.text, row.source].map(cell).join(','))].join('\n')
      const link = document.createElement('a')
      link.href = URL.createObjectURL(new Blob([text], { type: form === 'json' ? 'application/json' : 'text/csv' }))
      link.download = `journal${day ? `-${day}` : ''}.${form}`
      link.click()
      URL.revokeObjectURL(link.href)
      saving = all.length >= MOST ? `The newest ${MOST} rows were saved: choose fewer days for the rest.` : `${all.length} rows saved.`
    })
  }
  const pick = (from: string) => { day = from; until = ''; void look() }
</script>

<main id="content" tabindex="-1">
  <details class="which" open={matchMedia('(min-width: 40rem) and (min-height: 36rem)').matches}>
  <summary>Which rows{day ? `: ${until ? `${day} to ${until}` : day}` : ''}{subject ? `, about ${subject}` : ''}{kind ? `, ${kind}` : ''}</summary>
  <form class="asks" onsubmit={(event) => { event.preventDefault(); void look() }}>
    <div class="days" role="group" aria-label="Which days">
      <button type="button" class="btn preset-outlined-surface-500" aria-pressed={!day} onclick={() => pick('')}>All</button>
      <button type="button" class="btn preset-outlined-surface-500" aria-pressed={day === today && !until} onclick={() => pick(today)}>Today</button>
      <button type="button" class="btn preset-outlined-surface-500" aria-pressed={day === dayOf(serviceTime() - 86_400_000) && !until} onclick={() => pick(dayOf(serviceTime() - 86_400_000))}>Yesterday</button>
      <label>From <input class="input" type="date" max={today} bind:value={day} onchange={look} /></label>
      <label>to <input class="input" type="date" min={day} max={today} bind:value={until} onchange={look} /></label>
    </div>
    <label>About <select class="select" bind:value={subject} onchange={look}><option value="">everything</option>{#each things as thing (thing.name)}<option value={thing.name}>{thing.label}</option>{/each}</select></label>
    <label>Kind <select class="select" bind:value={kind} onchange={look}>{#each KINDS as each (each)}<option value={each}>{each || 'any'}</option>{/each}</select></label>
    <label>By <input class="input" placeholder="anybody" bind:value={source} onchange={look} /></label>
    <label>With these words <input class="input" type="search" placeholder="Enter searches all of it" bind:value={words} onchange={() => { searched = words.trim(); words = searched; void look() }} /></label>
    <label class="check"><input type="checkbox" class="checkbox" bind:checked={follows} /> Follow</label>
    <span class="save">Save as
      <button type="button" class="btn preset-outlined-surface-500" onclick={() => save('csv')}>CSV</button>
      <button type="button" class="btn preset-outlined-surface-500" onclick={() => save('json')}>JSON</button>
      <span role="status">{saving}</span>
    </span>
  </form>
  </details>

  <section aria-label="Journal">
    {#each days as [name, its] (name)}
      <h2>{name}</h2>
      <ol>
        {#each its as row (row.sequence)}
          <li data-row={row.sequence}>
            <time datetime={row.at}>{time.format(new Date(row.at))}</time>
            <span class="kind">{row.kind}</span>
            <span class="text">{row.text}{#if row.source}<small> {row.source}</small>{/if}</span>
            {#if row.subject && live.outputs[row.subject]}<button type="button" class="why" aria-expanded={why?.row === row.sequence} aria-label="Why was {live.outputs[row.subject].label} so then, row {row.sequence}" onclick={() => explain(row)}>Why</button>{:else}<span></span>{/if}
            {#if why?.row === row.sequence}
              <div class="reason" role="status">
                {#if why.found}<p>{why.found.sentence}</p><dl>{#each why.found.steps as step, number (number)}<dt>{step.stage}</dt><dd>{step.text}</dd>{/each}</dl>{:else}{why.wrong ?? 'Looking it up …'}{/if}
              </div>
            {/if}
          </li>
        {/each}
      </ol>
    {:else}<p class="none">Nothing like that{day ? ' on those days' : ' yet'}.</p>{/each}
    {#if next}<button type="button" class="btn preset-outlined-surface-500 earlier" onclick={more}>Earlier</button>{/if}
  </section>
</main>

<style>
  .which { margin-bottom: 1rem; padding: 0.2rem 1rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  summary { display: list-item; min-height: 2.75rem; padding-block: 0.6rem; cursor: pointer; font-weight: 600; }
  .asks { display: flex; flex-wrap: wrap; align-items: end; gap: 0.6rem 0.9rem; padding-bottom: 0.8rem; }
  .asks label { font-size: 0.83rem; color: var(--soft); min-width: 0; }
  .asks .input, .asks .select { display: block; width: auto; min-height: 2.75rem; color: var(--ink); }
  .asks .btn { min-height: 2.75rem; }
  .asks .btn[aria-pressed='true'] { border-color: var(--on); box-shadow: inset 0 0 0 1px var(--on); }
  .days, .save { display: flex; flex-wrap: wrap; gap: 0.5rem; align-items: end; }
  .save { align-items: center; font-size: 0.83rem; color: var(--soft); }
  .check { display: flex; align-items: center; gap: 0.5rem; min-height: 2.75rem; }
  .check .checkbox { width: 1.5rem; height: 1.5rem; }
  h2 { position: sticky; top: 3.9rem; padding: 0.5rem 0; font-size: 0.95rem; font-weight: 650; background: var(--ground); }
  li { display: grid; grid-template-columns: 5rem 5.2rem minmax(0, 1fr) 3.6rem; gap: 0.2rem 0.8rem; align-items: baseline; padding: 0.35rem 0; border-top: 1px solid var(--line); }
  time { color: var(--soft); font-size: 0.9rem; }
  .kind { color: var(--soft); font-size: 0.83rem; overflow-wrap: anywhere; }
  .text { overflow-wrap: anywhere; line-height: 1.4; }
  small { margin-left: 0.5rem; color: var(--soft); }
  .why { min-height: 2.1rem; min-width: 2.75rem; color: var(--on); text-decoration: underline; }
  .reason { grid-column: 3 / -1; padding: 0.6rem 0.9rem; border-left: 4px solid var(--on); background: var(--stone); font-size: 0.9rem; line-height: 1.45; overflow-wrap: anywhere; }
  dl { display: grid; grid-template-columns: auto 1fr; gap: 0.2rem 0.8rem; margin-top: 0.4rem; }
  dt { color: var(--soft); }
  .none { margin: 1.5rem 0; color: var(--soft); }
  .earlier { min-height: 2.75rem; margin-top: 0.8rem; }
  @media (max-width: 39.99rem) {
    li { grid-template-columns: auto 1fr auto; }
    .text { grid-column: 1 / -1; grid-row: 2; }
    .reason { grid-column: 1 / -1; }
    .why { min-height: 2.75rem; }
  }
</style>
