<!-- What the docs say of the page that is open: read when it is asked for, links between them followed in place. -->
<script lang="ts">
  import { tick } from 'svelte'
  import { aboutPage } from '../state/docs'

  let { at }: { at: string } = $props()

  let html = $state('')
  let doc = $state('')
  let body = $state<HTMLElement>()
  const docs = $derived(aboutPage(at))

  async function read(name: string, part = ''): Promise<void> {
    const { default: pages } = await import('virtual:docs')
    if (!pages[name]) return
    const answer = await fetch(pages[name]).catch(() => undefined)
    html = answer?.ok ? await answer.text() : '<p>It cannot be read while the service does not answer.</p>'
    doc = name
    await tick()
    const found = part ? body?.querySelector<HTMLElement>(`[data-at="${CSS.escape(part)}"]`) : body
    found?.scrollIntoView({ block: 'start' })
  }

  /** A link to another page of the docs is followed here. */
  function follow(event: MouseEvent): void {
    const link = (event.target as Element).closest('a')
    const found = link?.getAttribute('href')?.match(/^(?:([\w-]+)\.md)?(?:#([\w-]+))?$/)
    if (!found) return
    event.preventDefault()
    void read(found[1] ?? doc, found[2])
  }
</script>

{#if docs.length}
  <details class="about" ontoggle={(event) => event.currentTarget.open && !html && void read(docs[0][0], docs[0][1])}>
    <summary>About this page</summary>
    {#if docs.length > 1}<p class="others">{#each docs as [name, part, words] (name + part)}<button type="button" class="btn preset-outlined-surface-500" aria-pressed={doc === name} onclick={() => void read(name, part)}>{words}</button>{/each}</p>{/if}
    <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
    <div class="doc" bind:this={body} onclick={follow}>
      <!-- eslint-disable-next-line svelte/no-at-html-tags: made of our own docs when the console was built -->
      {@html html}
    </div>
  </details>
{/if}

<style>
  .about { margin-top: 1.5rem; border-top: 1px solid var(--line); }
  summary { display: list-item; min-height: 2.75rem; padding-block: 0.7rem; cursor: pointer; font-weight: 650; color: var(--soft); }
  .others { display: flex; flex-wrap: wrap; gap: 0.5rem; margin-bottom: 0.8rem; }
  .btn { min-height: 2.75rem; }
  .doc { max-width: 62rem; line-height: 1.6; overflow-wrap: anywhere; scroll-margin-top: 5rem; }
  .doc :global(:is(h2, h3, h4, h5)) { margin: 1.2rem 0 0.4rem; font-weight: 700; line-height: 1.25; scroll-margin-top: 5rem; }
  .doc :global(h2) { font-size: 1.25rem; }
  .doc :global(h3) { font-size: 1.1rem; }
  .doc :global(:is(p, ul, ol, pre, .scroll)) { margin-bottom: 0.8rem; }
  .doc :global(ul) { padding-left: 1.2rem; list-style: disc; }
  .doc :global(ol) { padding-left: 1.4rem; list-style: decimal; }
  .doc :global(code) { background: none; padding: 0; font-size: 0.92em; color: var(--ink); }
  .doc :global(pre) { overflow-x: auto; padding: 0.7rem 0.9rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-base); font-size: 0.88rem; }
  .doc :global(.scroll) { overflow-x: auto; }
  .doc :global(table) { border-collapse: collapse; font-size: 0.9rem; }
  .doc :global(:is(th, td)) { text-align: left; vertical-align: top; padding: 0.35rem 0.9rem 0.35rem 0; border-top: 1px solid var(--line); }
  .doc :global(a) { color: var(--on); text-decoration: underline; text-underline-offset: 3px; }
  @media print { .about { display: none; } }
</style>
