<!-- One field everywhere: find an output or a page, or say what is to be done. What is said is looked at before it is done
     (POST /api/v1/phrases, dry). -->
<script lang="ts">
  import Search from '@lucide/svelte/icons/search'
  import X from '@lucide/svelte/icons/x'
  import { tick } from 'svelte'
  import * as api from '../state/api'
  import { Problem } from '../state/api'
  import { day, live } from '../state/live.svelte'
  import { go, PLACES } from '../state/place.svelte'
  import { aside, is } from '../state/words'
  import type { Dry } from '../state/types'

  let { more }: { more: (name: string) => void } = $props()

  const MOST = 6
  let open = $state(false)
  let text = $state('')
  let dry = $state<Dry>()
  let wrong = $state('')
  let choices = $state<string[]>([])
  let span = $state<[number, number]>([0, 0])
  let done = $state('')
  let field = $state<HTMLInputElement>()
  let waiting: ReturnType<typeof setTimeout> | undefined

  const words = $derived(text.toLowerCase().split(/\s+/).filter(Boolean))
  const fits = (said: string) => words.length > 0 && words.every((word) => said.toLowerCase().includes(word))
  const outputs = $derived(live.names.map((name) => live.outputs[name]).filter((each) => fits(`${each.name} ${each.label} ${each.place}`)).slice(0, MOST))
  const pages = $derived(
    [...PLACES.flatMap((place) => [{ name: place.name, at: place.at }, ...place.leaves.filter((leaf) => !leaf.keeps || live.keeps).map((leaf) => ({ name: `${place.name}: ${leaf.name}`, at: `${place.at}/${leaf.at}` }))]), { name: 'Help', at: 'help' }]
      .filter((each) => fits(each.name)).slice(0, MOST),
  )

  let from: HTMLElement | null = null
  async function show(): Promise<void> {
    from = document.activeElement as HTMLElement | null
    open = true
    await tick()
    field?.focus()
    field?.select()
  }
  function hide(): void {
    open = false
    text = ''
    done = wrong = ''
    choices = []
    dry = undefined
  }

  /** Away, to where one was. */
  function back(): void {
    hide()
    from?.focus()
  }

  function fail(error: unknown): void {
    if (!(error instanceof Problem)) throw error
    dry = undefined
    wrong = `${error.sentence} ${error.remedy}`
    choices = (error.more.choices as string[]) ?? []
    span = [Number(error.more.at ?? 0), Number(error.more.end ?? 0)]
  }

  function typed(): void {
    clearTimeout(waiting)
    done = wrong = ''
    choices = []
    dry = undefined
    if (!text.trim() || live.role === 'watch') return
    waiting = setTimeout(async () => {
      const asked = text
      try {
        const found = await api.dryPhrase(asked)
        if (asked === text) dry = found
      } catch (error) {
        if (asked === text && !outputs.length && !pages.length) fail(error)
      }
    }, 250)
  }

  async function submit(event: SubmitEvent): Promise<void> {
    event.preventDefault()
    clearTimeout(waiting)
    if (!text.trim()) return
    if (!dry && outputs.length + pages.length > 0 && !/\s/.test(text.trim())) {
      const [output, page] = [outputs[0]?.name, pages[0]?.at]
      return visit(() => (output ? more(output) : go(page)))
    }
    try {
      const found = await api.say(text)
      done = `${found.phrase}: ${found.ending?.ending ?? found.outcome}${found.reason ? ` (${found.reason})` : ''}`
      ;[dry, wrong, text, choices] = [undefined, '', '', []]
    } catch (error) {
      fail(error)
    }
  }

  function visit(there: () => void): void {
    hide()
    there()
  }

  function choose(choice: string): void {
    text = text.slice(0, span[0]) + choice + text.slice(span[1])
    typed()
    field?.focus()
  }

  function key(event: KeyboardEvent): void {
    if (open && event.key === 'Escape') return back()
    const inField = event.target instanceof HTMLElement && event.target.closest('input, textarea, select, [contenteditable]')
    if ((event.key === '/' && !inField && !event.ctrlKey && !event.metaKey) || (event.key === 'k' && (event.ctrlKey || event.metaKey))) {
      event.preventDefault()
      void show()
    }
  }
</script>

<svelte:window onkeydown={key} />

<button type="button" class="opens" aria-label="Find, or say what to do" onclick={show} aria-expanded={open} aria-keyshortcuts="/">
  <Search size={20} aria-hidden="true" /><span class="long">Find, or say what to do</span><kbd class="long" aria-hidden="true">/</kbd>
</button>

{#if open}
  <div class="over" role="presentation" onclick={(event) => event.target === event.currentTarget && back()}>
    <form class="panel" role="search" onsubmit={submit}>
      <div class="line">
        <label class="sr" for="say">Find, or say what to do</label>
        <input id="say" bind:this={field} bind:value={text} oninput={typed} autocomplete="off" spellcheck="false" placeholder="gallery, or: turn gallery to 40 % over 3 s" aria-describedby="understood" />
        {#if dry}<button type="submit" class="btn preset-filled-primary-500" disabled={live.lost}>Do it</button>{/if}
        <button type="button" class="icon" aria-label="Close the field" onclick={back}><X size={22} aria-hidden="true" /></button>
      </div>
      <div id="understood" aria-live="polite">
        {#if wrong}
          <p class="wrong">{wrong}</p>
          {#each choices as choice (choice)}<button type="button" class="btn preset-outlined-surface-500" onclick={() => choose(choice)}>{choice}</button>{/each}
        {:else if dry}
          <p class="dry"><strong>{dry.phrase}.</strong>
            {dry.begins ? `From ${day(dry.begins)}: ` : ''}
            {#each dry.steps as step, number (number)}
              {number ? `; then, after ${step.after_seconds} s, ` : ''}{step.orders.length ? step.orders.map((order) => `${order.label} ${order.act === 'release' ? 'released' : (order.setting?.words ?? order.act)}${order.lasting ? ` ${order.lasting}` : ''} (now ${order.now})`).join(', ') : step.text}
            {/each}
          </p>
          {#each dry.steps.flatMap((step) => step.orders).filter((order) => order.against) as order (order.label)}<p class="wrong">{order.label} would not be so now: {order.against}.</p>{/each}
        {:else if done}<p role="status">{done}</p>{/if}
      </div>
      {#if outputs.length || pages.length}
        <ul aria-label="Found">
          {#each outputs as output (output.name)}
            <li><button type="button" onclick={() => visit(() => more(output.name))}><strong>{output.label}</strong> <span>{output.place}</span> <span class="is">{is(output)}</span> <small>{aside(output)}</small></button></li>
          {/each}
          {#each pages as page (page.at)}
            <li><button type="button" onclick={() => visit(() => go(page.at))}><strong>{page.name}</strong> <span>page</span></button></li>
          {/each}
        </ul>
      {/if}
    </form>
  </div>
{/if}

<style>
  .opens { display: flex; align-items: center; gap: 0.6rem; min-height: 2.75rem; min-width: 2.75rem; padding: 0 0.8rem; border: 1px solid var(--line); border-radius: var(--radius-base); background: var(--stone); color: var(--soft); text-align: left; }
  .long { flex: 1; }
  kbd.long { flex: none; padding: 0 0.45rem; border: 1px solid var(--line); border-radius: 0.3rem; font-size: 0.8rem; }
  .over { position: fixed; inset: 3.9rem 0 0; z-index: 50; background: rgb(0 0 0 / 0.45); display: flex; justify-content: center; align-items: flex-start; padding: 0.6rem 0.8rem 0.8rem; }
  .panel { width: min(44rem, 100%); max-height: 100%; overflow: auto; background: var(--stone); color: var(--ink); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.8rem; box-shadow: 0 12px 40px rgb(0 0 0 / 0.35); }
  .line { display: flex; gap: 0.5rem; align-items: center; }
  .line input { flex: 1; min-width: 0; min-height: 2.9rem; padding: 0 0.9rem; font-size: 1.05rem; background: var(--ground); color: var(--ink); border: 1px solid var(--edge); border-radius: var(--radius-base); }
  .line .btn { min-height: 2.9rem; }
  .icon { width: 2.75rem; height: 2.75rem; display: grid; place-items: center; color: var(--soft); }
  #understood p { padding: 0.6rem 0.3rem 0.2rem; line-height: 1.45; }
  .wrong { color: var(--ill); }
  #understood .btn { min-height: 2.75rem; margin: 0.3rem 0.4rem 0 0; }
  ul { margin-top: 0.5rem; border-top: 1px solid var(--line); }
  li button { display: grid; grid-template-columns: minmax(0, 1fr) auto auto; gap: 0 0.8rem; align-items: baseline; width: 100%; min-height: 2.75rem; padding: 0.45rem 0.5rem; text-align: left; border-radius: var(--radius-base); }
  li button:hover { background: var(--ground); }
  li small { grid-column: 1 / -1; color: var(--soft); }
  li span { color: var(--soft); }
  li .is { color: var(--ink); font-weight: 600; }
  @media (max-width: 40rem) { .long { display: none; } .opens { padding: 0; justify-content: center; }  }
</style>
