<!-- This device as a panel on the wall: made one here, and no longer one. -->
<script lang="ts">
  import { live } from '../state/live.svelte'
  import { panel } from '../state/panel.svelte'
  import { go } from '../state/place.svelte'

  let code = $state('')
  let after = $state(2)
  let from = $state('22:00')
  let to = $state('06:30')
  const good = $derived(/^\d{4,12}$/.test(code))

  async function begin(event: SubmitEvent): Promise<void> {
    event.preventDefault()
    await panel.begin(code, { after, from, to }, live.site?.timezone ?? 'UTC')
    go('now')
  }
</script>

<details>
  <summary>This device as a panel on the wall</summary>
  {#if panel.is}
    <p>It is one, and open since its code was entered. It closes when nobody has touched it for three minutes.</p>
    <div class="row">
      <button type="button" class="btn preset-outlined-surface-500" onclick={() => { panel.lock(); go('now') }}>Close it now</button>
      <button type="button" class="btn preset-outlined-surface-500" onclick={panel.end}>No panel any more</button>
    </div>
  {:else if !panel.possible}
    <p>Open this console by an address that begins with https, or on the machine itself: on any other a browser keeps no code.</p>
  {:else}
    <p>It then shows what is now and nothing else, is left with a code, dims when nobody touches it and wakes on the first touch. Give it a key of its own that may do no more than it should: <a href="#site/keys">Keys</a>.</p>
    <form onsubmit={begin} aria-label="Panel">
      <label>Code to leave it, 4 to 12 digits <input class="input" type="password" inputmode="numeric" autocomplete="new-password" bind:value={code} maxlength="12" required /></label>
      <label>Dims after <select class="select" bind:value={after}>{#each [1, 2, 5, 10, 30] as minutes (minutes)}<option value={minutes}>{minutes} min</option>{/each}<option value={0}>never</option></select></label>
      <label>Darker from <input class="input" type="time" bind:value={from} required /></label>
      <label>until <input class="input" type="time" bind:value={to} required /></label>
      <button type="submit" class="btn preset-filled-primary-500" disabled={!good}>Make it a panel</button>
    </form>
  {/if}
</details>

<style>
  details { margin-bottom: 1rem; padding: 0.4rem 1.1rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  summary { display: list-item; min-height: 2.75rem; padding-block: 0.6rem; cursor: pointer; font-weight: 650; }
  p { max-width: 48rem; line-height: 1.5; margin-bottom: 0.7rem; }
  a { text-decoration: underline; }
  form, .row { display: flex; flex-wrap: wrap; gap: 0.8rem; align-items: end; padding-bottom: 0.7rem; }
  label { font-size: 0.83rem; color: var(--soft); }
  .input, .select { display: block; width: auto; color: var(--ink); }
  .input, .select, .btn { min-height: 2.75rem; }
</style>
