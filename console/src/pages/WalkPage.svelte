<!-- The page 'Walk': beside the cabinet, thing by thing of one board; what was seen is kept, what is otherwise goes into the draft. -->
<script lang="ts">
  import { onDestroy } from 'svelte'
  import * as api from '../state/api'
  import type { Edit } from '../state/edits'
  import { MOVING } from '../state/blink.svelte'
  import { name as mine } from '../state/kept.svelte'
  import { keep } from '../state/lease'
  import { live } from '../state/live.svelte'
  import { is } from '../state/words'

  let { name }: { name: string } = $props()

  const boards = $derived(Object.values(live.boards))
  const board = $derived(live.boards[name] ? name : boards[0]?.name)
  const things = $derived([
    ...Object.values(live.outputs).filter((each) => each.board === board).map((each) => ({ ...each, what: 'output' as const })),
    ...Object.values(live.inputs).filter((each) => each.board === board).map((each) => ({ ...each, what: 'input' as const })),
  ].sort((a, b) => Number(a.what === 'input') - Number(b.what === 'input') || a.line - b.line))
  let at = $state(0)
  let seen = $state<Record<string, string>>({})
  let on = $state('')
  let wrong = $state('')
  let other = $state('')
  let changed = $state(0)
  const thing = $derived(things[at])
  const SAID = { right: 'right', wrong: 'not right', swapped: 'the other way round', other: 'something else', skipped: 'skipped' } as const
  const now = $derived(thing?.what === 'output' ? is(live.outputs[thing.name]) : thing ? (live.inputs[thing.name].state || String(live.inputs[thing.name].value ?? 'not known')) : '')

  let asking = $state(false)
  const letGo = () => {
    on = ''
    asking = false
  }
  onDestroy(letGo)

  /** It is on for as long as this page holds it: not longer than somebody looks, however that ends. */
  async function turn(): Promise<void> {
    if (!thing) return
    if (MOVING.includes(thing.kind) && !asking) return void (asking = true)
    asking = false
    const its = (on = thing.name)
    const why = await keep(its, '5 s', 1500, () => on === its)
    if (on === its) on = ''
    if (why) wrong = why
  }

  async function say(saw: keyof typeof SAID): Promise<void> {
    if (!thing) return
    const its = thing
    letGo()
    wrong = await api.refusal(async () => {
      const edits: Edit[] = []
      if (saw === 'swapped') {
        const sense = (await api.offers(its.what, '', its.name)).keys.find((each) => each.name === 'sense')?.value
        edits.push({ do: 'change', what: its.what, name: its.name, keys: { sense: sense === 'active-low' ? 'active-high' : 'active-low' } })
      }
      const there = things.find((each) => each.name === other && each.what === its.what)
      if (saw === 'other' && there) {
        edits.push({ do: 'change', what: its.what, name: its.name, keys: { pin: there.pin } }, { do: 'change', what: its.what, name: there.name, keys: { pin: its.pin } })
      }
      if (edits.length && live.keeps) {
        await api.intoDraft(edits)
        changed += 1
      }
      await api.witness(its.name, mine.now || live.key, saw, saw === 'other' ? `that was ${other}` : '')
      seen = { ...seen, [its.name]: SAID[saw] }
      other = ''
      if (at < things.length - 1) at += 1
    })
  }

  function choose(number: number): void {
    letGo()
    at = number
    other = wrong = ''
  }
</script>

<main id="content" tabindex="-1">
  <div class="top">
    <label>Board <select class="select" value={board} onchange={(event) => { choose(0); location.hash = `#site/walk/${encodeURIComponent(event.currentTarget.value)}` }}>{#each boards as each (each.name)}<option value={each.name}>{each.label || each.name}</option>{/each}</select></label>
    <label>Who looks <input class="input" bind:value={mine.now} placeholder={live.key} maxlength="60" /></label>
  </div>
  {#if thing}
    <section class="card" aria-label={thing.label} data-walk={thing.name}>
      <p class="soft">{at + 1} of {things.length}; {thing.pin} (line {thing.line})</p>
      <h2>{thing.label}</h2>
      <p class="now" aria-live="polite">{thing.what === 'output' ? 'It is' : 'It reads'} <b>{now}</b></p>
      {#if thing.what === 'output'}
        <button type="button" class="btn big {on === thing.name ? 'preset-filled-primary-500' : 'preset-outlined-surface-500'}" disabled={!live.may(thing.name) || live.lost} onclick={() => (on === thing.name ? letGo() : turn())}>{on === thing.name ? 'Let it go' : asking ? 'Nobody is near: switch it on' : 'Switch it on'}</button>
      {:else}<p>Work it now: press, open or move it, and watch what it reads.</p>{/if}
      <p>Is that what the site says?</p>
      <div class="answers">
        <button type="button" class="btn preset-tonal-primary" onclick={() => say('right')}>Yes</button>
        <button type="button" class="btn preset-outlined-surface-500" onclick={() => say('wrong')}>No</button>
        <button type="button" class="btn preset-outlined-surface-500" onclick={() => say('swapped')}>The other way round</button>
        <button type="button" class="btn preset-outlined-surface-500" onclick={() => say('skipped')}>Skip</button>
      </div>
      <div class="top">
        <label>That was <select class="select" bind:value={other}><option value="">something else</option>{#each things.filter((each) => each.what === thing.what && each.name !== thing.name) as each (each.name)}<option value={each.name}>{each.label}</option>{/each}</select></label>
        <button type="button" class="btn preset-outlined-surface-500" disabled={!other} onclick={() => say('other')}>Say so</button>
      </div>
      {#if wrong}<p class="wrong" role="alert">{wrong}</p>{/if}
      {#if changed}<p><a href="#site/changes">What is to be changed is in your draft.</a></p>{/if}
    </section>
    <ol aria-label="What was seen">
      {#each things as each, number (each.name)}<li><button type="button" class="step" aria-current={number === at ? 'step' : undefined} onclick={() => choose(number)}><span>{each.label}</span><span class="soft">{seen[each.name] ?? ''}</span></button></li>{/each}
    </ol>
  {:else}<p>Nothing is wired to this board yet.</p>{/if}
</main>

<style>
  main { max-width: 44rem; }
  .top { display: flex; flex-wrap: wrap; gap: 0.7rem; align-items: end; margin-bottom: 0.8rem; }
  label { font-size: 0.83rem; color: var(--soft); }
  .select, .input { display: block; min-height: 2.75rem; color: var(--ink); }
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 1rem; margin-bottom: 1rem; display: grid; gap: 0.6rem; }
  h2 { font-size: 1.4rem; font-weight: 650; }
  .now { font-size: 1.1rem; }
  .btn { min-height: 3rem; white-space: normal; }
  .big { min-height: 4rem; font-size: 1.15rem; }
  .answers { display: grid; grid-template-columns: repeat(auto-fit, minmax(9rem, 1fr)); gap: 0.6rem; }
  .soft { color: var(--soft); font-size: 0.88rem; }
  .wrong { color: var(--ill); }
  .step { display: flex; justify-content: space-between; gap: 0.8rem; width: 100%; min-height: 2.75rem; padding: 0.4rem 0.8rem; text-align: left; border-left: 4px solid transparent; }
  .step[aria-current] { border-left-color: var(--on); background: var(--stone); }
</style>
