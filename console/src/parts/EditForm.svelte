<!-- A thing of the site is added or changed: what may be written, with only what is possible offered, and what it would come to before it is.
     It shows GET /api/v1/site-file/offers/WHAT and POST /api/v1/site-file/preview. -->
<script lang="ts">
  import * as api from '../state/api'
  import { later } from '../state/later'
  import { live, note } from '../state/live.svelte'
  import { read, shown, type Edit } from '../state/edits'
  import type { Offer, SitePreview } from '../state/types'
  import Findings from './Findings.svelte'

  let { what, name = '', fresh = false, known = {}, done }: {
    what: string; name?: string; fresh?: boolean
    /** What is known of it already: its pin, how it was tried. */
    known?: Record<string, unknown>
    done: (applied: boolean) => void
  } = $props()

  // svelte-ignore state_referenced_locally
  let called = $state(name)
  // svelte-ignore state_referenced_locally
  let fields = $state<Record<string, string>>(Object.fromEntries(Object.entries(known).map(([key, value]) => [key, shown(value)])))
  let offers = $state<Offer[]>([])
  let found = $state<SitePreview>()
  let wrong = $state('')
  let busy = $state(false)
  let removing = $state(false)
  let reason = $state('')
  let all = $state(false)

  const kind = $derived(fields[what === 'board' ? 'link' : 'kind'] ?? '')
  const first = $derived(offers.filter((each) => each.needed || each.name in fields || ['label', 'place'].includes(each.name)))
  const others = $derived(offers.filter((each) => !first.includes(each)))
  const ready = $derived(offers.length > 0 && (!fresh || (called.trim() !== '' && offers.every((each) => !each.needed || fields[each.name]?.trim()))))

  $effect(() => {
    const [of, its] = [what, kind]
    void api.offers(of, its, fresh ? '' : name).then((its) => {
      if (of !== what) return
      offers = its.keys
      if (!fresh) for (const each of its.keys) if (each.value !== null && !(each.name in fields)) fields[each.name] = shown(each.value)
    }).catch((error) => (wrong = api.said(error)))
  })

  /** What is asked for: what was typed and is not so already. */
  const edits = $derived.by<Edit[]>(() => {
    const keys: Record<string, unknown> = {}
    for (const each of offers) {
      const typed = (fields[each.name] ?? '').trim()
      const before = each.value === null ? '' : shown(each.value)
      if (fresh ? typed : typed !== before) keys[each.name] = typed ? read(typed) : null
    }
    if (fresh) return [{ do: 'add', what, name: called.trim(), keys }]
    const now = called.trim() || name
    const made: Edit[] = Object.keys(keys).length ? [{ do: 'change', what, name: now, keys }] : []
    return now === name ? made : [{ do: 'rename', what, name, to: now }, ...made]
  })

  $effect(() => {
    const asked = edits
    if (!ready || !asked.length) {
      ;[found, wrong] = [undefined, '']
      return
    }
    return later(300, () => api.previewSite(asked), (its) => ([found, wrong] = [its, '']), (error) => ([found, wrong] = [undefined, api.said(error)]))
  })

  async function put(draft: boolean, changes: Edit[] = edits): Promise<void> {
    busy = true
    wrong = await api.refusal(async () => {
      const said = await (draft ? api.intoDraft(changes) : api.changeSite(changes, reason))
      note(draft ? 'It is in your draft.' : said.reason.replace(/ \(.*|: .*/s, '.'), '')
      done(!draft)
    })
    busy = false
  }
</script>

{#snippet field(each: Offer)}
  <label>{each.name}
    {#if each.choices.length}
      <select class="select" bind:value={fields[each.name]} data-key={each.name}>
        {#if !each.needed || !fields[each.name]}<option value="">{each.needed ? 'choose' : each.unsaid || 'not said'}</option>{/if}
        {#each each.choices as choice (choice)}<option>{choice}</option>{/each}
      </select>
    {:else}
      <input class="input" bind:value={fields[each.name]} placeholder={each.unsaid} spellcheck="false" data-key={each.name} />
    {/if}
    <small>{each.says.replaceAll('`', '').replace(/\[([^\]]*)\]\([^)]*\)/g, '$1')}</small>
  </label>
{/snippet}

<form onsubmit={(event) => { event.preventDefault(); void put(false) }} aria-label={fresh ? `Add ${what}` : `Change ${what} ${name}`}>
  <div class="fields">
    {#if what !== 'site' && what !== 'service' && what !== 'quiet'}
      <label>Name<input class="input" bind:value={called} required spellcheck="false" data-key="name" /><small>{fresh ? 'small letters, digits and hyphens, for what is wired' : 'another one follows it everywhere'}</small></label>
    {/if}
    {#each first as each (each.name)}{@render field(each)}{/each}
  </div>
  {#if others.length}
    <button type="button" class="btn btn-sm preset-outlined-surface-500" aria-expanded={all} onclick={() => (all = !all)}>{all ? 'Less' : `${others.length} more that may be said`}</button>
    {#if all}<div class="fields">{#each others as each (each.name)}{@render field(each)}{/each}</div>{/if}
  {/if}
  <div class="would" aria-live="polite">
    {#if wrong}<p class="wrong" role="alert">{wrong}</p>{/if}
    {#if found}<Findings {found} />{/if}
  </div>
  <label class="reason">Why, for the list of editions<input class="input" bind:value={reason} /></label>
  <div class="row">
    <button type="submit" class="btn preset-filled-primary-500" disabled={busy || !found?.good || live.lost}>{busy ? 'Applying …' : 'Apply'}</button>
    <button type="button" class="btn preset-outlined-surface-500" disabled={busy || !found || live.lost} onclick={() => put(true)}>Into the draft</button>
    <button type="button" class="btn preset-outlined-surface-500" onclick={() => done(false)}>Cancel</button>
    {#if !fresh && what !== 'site'}
      <button type="button" class="btn {removing ? 'preset-filled-error-500' : 'preset-outlined-surface-500'}" disabled={busy || live.lost} onblur={() => (removing = false)}
        onclick={() => (removing ? put(false, [{ do: 'remove', what, name }]) : (removing = true))}>{removing ? 'Remove it now' : 'Remove'}</button>
    {/if}
  </div>
</form>

<style>
  form { display: grid; gap: 0.7rem; padding: 0.9rem 1rem; background: var(--stone); border: 1px solid var(--on); border-radius: var(--radius-container); margin-bottom: 1rem; }
  .fields { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(100%, 13rem), 1fr)); gap: 0.7rem; align-items: start; }
  label { font-size: 0.83rem; color: var(--ink); font-weight: 600; }
  .input, .select { display: block; width: 100%; min-height: 2.75rem; font-weight: 400; color: var(--ink); }
  small { display: block; font-weight: 400; color: var(--soft); line-height: 1.35; margin-top: 0.35rem; }
  .btn { min-height: 2.75rem; }
  .row { display: flex; flex-wrap: wrap; gap: 0.6rem; }
  .would { display: grid; gap: 0.4rem; min-height: 1.5rem; }
  .wrong { color: var(--ill); }
  .reason { max-width: 32rem; }
  form > .btn { justify-self: start; }
</style>
