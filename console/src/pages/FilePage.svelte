<!-- The site file as the service has read it, and reading it anew. It shows GET /api/v1/plan/kit and POST /api/v1/site-file/reload. -->
<script lang="ts">
  import { onMount } from 'svelte'
  import * as api from '../state/api'
  import { attempt, live } from '../state/live.svelte'

  let text = $state('')
  let said = $state('')
  let wrong = $state('')
  let sought = $state('')
  let busy = $state(false)
  let changes = $state<string[]>()
  const lines = $derived(text.split('\n').map((line, number) => ({ line, number: number + 1 })))
  const shown = $derived(sought ? lines.filter(({ line }) => line.toLowerCase().includes(sought.toLowerCase())) : lines)

  const read = () => attempt(async () => (text = await api.siteFile()))
  onMount(() => {
    void read()
    void compare()
  })

  /** What the file says by now that is not so yet. */
  async function compare(): Promise<void> {
    if (!live.keeps) return
    changes = undefined
    wrong = await api.refusal(async () => (changes = (await api.siteChanges()).changes))
  }

  async function reload(): Promise<void> {
    ;[said, wrong, busy] = ['', '', true]
    try {
      said = (await api.reload()).reason || 'It was read anew.'
      await read()
      await compare()
    } catch (error) {
      wrong = api.said(error)
    }
    busy = false
  }
</script>

<main id="content" tabindex="-1">
  <div class="top">
    {#if live.keeps}
      <button type="button" class="btn preset-outlined-surface-500" disabled={busy || live.lost} onclick={compare}>What would change?</button>
      <button type="button" class="btn preset-outlined-surface-500" disabled={busy || live.lost} onclick={reload}>{busy ? 'Reading it anew …' : 'Read it anew'}</button>
    {/if}
    <label>With these words <input class="input" type="search" bind:value={sought} /></label>
    <p role="status">{said}</p>
  </div>
  {#if wrong}<pre class="wrong" role="alert">{wrong}</pre>{/if}
  {#if changes?.length}
    <section class="changes" aria-label="What would change"><h2>The file on the disk says otherwise by now</h2><ul>{#each changes as change (change)}<li>{change}</li>{/each}</ul></section>
  {/if}
  <p class="soft">It is read anew while everything runs: outputs, inputs and boards that are new, gone or wired otherwise, rules, scenes, schedules. What is wired otherwise is at safe meanwhile, and nothing else moves. Where the file has an error, or a board does not answer, everything stays as it is. The site's name and zone, its broker and the service's own settings take a restart.</p>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="file" tabindex="0" role="region" aria-label="The site file">
    {#each shown as { line, number } (number)}<div class="line"><span aria-hidden="true">{number}</span><code class:comment={line.trimStart().startsWith('#')} class:head={line.startsWith('[')}>{line || ' '}</code></div>{/each}
  </div>
</main>

<style>
  .top { display: flex; flex-wrap: wrap; gap: 0.8rem; align-items: end; margin-bottom: 0.8rem; }
  .top .btn, .top .input { min-height: 2.75rem; }
  label { font-size: 0.83rem; color: var(--soft); }
  .input { display: block; color: var(--ink); }
  .soft { color: var(--soft); font-size: 0.9rem; margin-bottom: 0.8rem; max-width: 50rem; line-height: 1.5; }
  .wrong { padding: 0.8rem 1rem; margin-bottom: 0.8rem; border: 2px solid var(--ill); border-radius: var(--radius-base); white-space: pre-wrap; overflow-wrap: anywhere; }
  .changes { padding: 0.8rem 1rem; margin-bottom: 0.8rem; border-left: 4px solid var(--on); background: var(--stone); line-height: 1.5; }
  .changes h2 { font-size: 1rem; font-weight: 650; }
  .changes ul { list-style: disc; padding-left: 1.2rem; }
  .file { max-height: 70vh; overflow: auto; padding: 0.8rem 0; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); font-size: 0.88rem; line-height: 1.55; }
  .line { display: grid; grid-template-columns: 3.4rem minmax(0, 1fr); }
  .line span { padding-right: 0.9rem; text-align: right; color: var(--soft); user-select: none; }
  code { background: none; padding: 0; font-size: inherit; color: var(--ink); white-space: pre-wrap; overflow-wrap: anywhere; }
  .comment { color: var(--soft); }
  .head { color: var(--on); font-weight: 650; }
</style>
