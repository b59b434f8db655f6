<!-- The page 'Changes': one's draft, what it would come to, and every state of the site that was applied.
     It shows GET /api/v1/draft and GET /api/v1/editions. -->
<script lang="ts">
  import { onMount } from 'svelte'
  import * as api from '../state/api'
  import { WHAT } from '../state/edits'
  import { attempt, day, live, note } from '../state/live.svelte'
  import { inZone } from '../state/say'
  import EditForm from '../parts/EditForm.svelte'
  import Findings from '../parts/Findings.svelte'
  import Lines from '../parts/Lines.svelte'
  import type { Difference, DraftForm, Edition, EditionWhole } from '../state/types'

  let { what, name }: { what: string; name: string } = $props()

  let draft = $state<DraftForm>()
  let editions = $state<Edition[]>([])
  let chosen = $state<EditionWhole>()
  let differs = $state<Difference[]>()
  let wrong = $state('')
  let reason = $state('')
  let busy = $state(false)
  let kind = $state('output')
  let adding = $state(false)
  let count = $state(0)
  const whole = $derived(live.site?.timezone ? inZone(live.site.timezone, { dateStyle: 'medium', timeStyle: 'short' }) : undefined)

  const read = () => attempt(async () => ([draft, editions] = await Promise.all([api.draft(), api.editions()])))
  onMount(() => void read())

  async function act(action: () => Promise<{ reason: string }>): Promise<void> {
    busy = true
    wrong = await api.refusal(async () => note((await action()).reason.replace(/ \(.*|: .*/s, '.'), ''))
    differs = chosen = undefined
    await read()
    busy = false
  }

  async function rehearse(past: boolean): Promise<void> {
    const now = new Date(Date.now() - (past ? 7 * 864e5 : 0))
    const end = new Date(now.getTime() + 7 * 864e5)
    busy = true
    wrong = await api.refusal(async () => (differs = await api.rehearseDraft(now.toISOString(), end.toISOString())))
    busy = false
  }

  function done(): void {
    adding = false
    count++
    if (what) location.hash = '#site/changes'
    void read()
  }
</script>

<main id="content" tabindex="-1">
  {#if !live.keeps}
    <p>The key '{live.key}' may look at the site, and not change it. Sign in with a key that keeps it.</p>
  {:else}
    {#if what}
      {#key what + name + count}<EditForm {what} {name} fresh={!name} {done} />{/key}
    {:else if adding}
      {#key kind + count}<EditForm what={kind} fresh {done} />{/key}
    {:else}
      <form class="top" onsubmit={(event) => { event.preventDefault(); adding = true }} aria-label="Add something">
        <label>Add <select class="select" bind:value={kind}>{#each WHAT.slice(0, -2) as each (each)}<option>{each}</option>{/each}</select></label>
        <button type="submit" class="btn preset-filled-primary-500">Add it</button>
        <p class="soft">To change something, open it: an output's sheet, a board, a rule. What is applied here is written into the site file.</p>
      </form>
    {/if}
    {#if wrong}<p class="wrong" role="alert">{wrong}</p>{/if}

    <section class="card" aria-label="Draft">
      <h2>Your draft</h2>
      {#if draft?.changes.length}
        <ol>
          {#each draft.words as each, number (number)}<li><span>{each}</span> <button type="button" class="btn btn-sm preset-outlined-surface-500" disabled={busy} onclick={() => act(() => api.takeFromDraft(number + 1))} aria-label="Take out: {each}">Take out</button></li>{/each}
        </ol>
        {#if draft.trouble}<p class="wrong" role="alert">It can no longer be made: {draft.trouble}</p>{/if}
        {#if draft.since}
          <p class="wary">Since it was begun the site has changed; it is edition {draft.edition} now:</p>
          <Lines text={draft.since} label="What others have changed" />
        {/if}
        {#if draft.preview}<Findings found={draft.preview} />{/if}
        {#if differs}
          <h3>What would be different</h3>
          {#if differs.length}
            <ul>{#each differs as each, number (number)}{@const one = (each.was ?? each.would_be)!}<li>{day(one.start)}: <b>{live.outputs[one.output]?.label ?? one.output}</b> {each.was?.words ?? 'as it rests'}, then {each.would_be?.words ?? 'as it rests'}</li>{/each}</ul>
          {:else}<p>Nothing, in that week.</p>{/if}
        {/if}
        <label class="reason">Why, for the list of editions<input class="input" bind:value={reason} /></label>
        <div class="row">
          <button type="button" class="btn preset-filled-primary-500" disabled={busy || live.lost || !draft.preview?.good} onclick={() => act(() => api.applyDraft(reason, draft!.edition))}>{draft.since ? `Apply to edition ${draft.edition}` : 'Apply'}</button>
          <button type="button" class="btn preset-outlined-surface-500" disabled={busy || !draft.preview?.good} onclick={() => rehearse(false)}>Rehearse the week to come</button>
          <button type="button" class="btn preset-outlined-surface-500" disabled={busy || !draft.preview?.good} onclick={() => rehearse(true)}>And the last one</button>
          <button type="button" class="btn preset-outlined-surface-500" disabled={busy} onclick={() => act(api.dropDraft)}>Drop it</button>
        </div>
      {:else if draft}
        <p class="soft">It is empty. 'Into the draft' gathers changes here; nothing changes until they are applied.</p>
      {/if}
      {#if draft?.others.length}<p class="soft">{draft.others.join(' and ')} {draft.others.length === 1 ? 'has a draft' : 'have drafts'} too.</p>{/if}
    </section>

    <section class="card" aria-label="Editions">
      <h2>Editions</h2>
      <ul class="editions">
        {#each editions as each (each.number)}
          <li data-edition={each.number}>
            <b>{each.number}</b>
            <span class="soft">{whole?.format(new Date(each.at))}</span>
            <span>{each.how === 'start' ? 'as it was found at a start' : each.reason}<small class="soft">{each.author ? ` ${each.author}` : ''}</small></span>
            <span class="row">
              <button type="button" class="btn btn-sm preset-outlined-surface-500" aria-expanded={chosen?.number === each.number} onclick={() => attempt(async () => (chosen = chosen?.number === each.number ? undefined : await api.edition(each.number)))}>What changed</button>
              {#if each.served}<em>served</em>{:else}<button type="button" class="btn btn-sm preset-outlined-surface-500" disabled={busy || live.lost} onclick={() => act(() => api.goBack(each.number))}>Back to it</button>{/if}
            </span>
            {#if chosen?.number === each.number}<div class="whole"><Lines text={chosen.difference} label="What changed with edition {each.number}" /></div>{/if}
          </li>
        {/each}
      </ul>
    </section>
  {/if}
</main>

<style>
  .top { display: flex; flex-wrap: wrap; gap: 0.7rem; align-items: end; margin-bottom: 1rem; }
  .top .soft { flex: 1 1 16rem; }
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.9rem 1rem; margin-bottom: 1rem; display: grid; gap: 0.6rem; }
  h2 { font-size: 1.05rem; font-weight: 650; }
  h3 { font-weight: 600; }
  ol { list-style: decimal; padding-left: 1.6rem; }
  ol li { padding-block: 0.2rem; }
  ul:not(.editions) { list-style: disc; padding-left: 1.2rem; line-height: 1.5; }
  .editions li { display: grid; grid-template-columns: 2.5rem 11rem minmax(10rem, 1fr) auto; gap: 0.3rem 0.8rem; align-items: center; padding-block: 0.4rem; border-top: 1px solid var(--line); }
  .editions .whole { grid-column: 1 / -1; min-width: 0; }
  .editions em { color: var(--on); font-weight: 600; font-style: normal; padding-inline: 0.6rem; }
  .row { display: flex; flex-wrap: wrap; gap: 0.6rem; align-items: center; }
  .btn { min-height: 2.75rem; }
  label { font-size: 0.83rem; color: var(--soft); }
  .reason { max-width: 32rem; }
  .input, .select { display: block; min-height: 2.75rem; color: var(--ink); }
  .soft { color: var(--soft); font-size: 0.9rem; line-height: 1.45; }
  .wary { border-left: 4px solid var(--wary); padding-left: 0.6rem; }
  .wrong { color: var(--ill); margin-bottom: 0.6rem; }
  @media (max-width: 44rem) { .editions li { grid-template-columns: 2.5rem minmax(0, 1fr); } .editions li > :nth-child(n + 3) { grid-column: 2; } .editions .whole { grid-column: 1 / -1 !important; } }
</style>
