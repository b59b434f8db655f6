<!-- What is done to an output by whoever looks after it: a tag that locks it out, a note, an attestation, passcodes. -->
<script lang="ts">
  import * as api from '../state/api'
  import { name as myName } from '../state/kept.svelte'
  import { attempt, day, live } from '../state/live.svelte'
  import type { Code, Output } from '../state/types'

  let { output, may }: { output: Output; may: boolean } = $props()

  let tag = $state(myName.now)
  let reason = $state('')
  let text = $state('')
  let owner = $state('')
  let code = $state('')
  let once = $state(false)
  let codes = $state<Code[]>([])
  let done = $state('')
  const tags = $derived((live.site?.lockouts ?? []).filter((each) => each.output === output.name))
  const guarded = $derived(live.guarded.includes(output.name))

  const read = () => attempt(async () => (codes = await api.codes(output.name)))
  $effect(() => {
    if (guarded && live.keeps) void read()
  })

  async function does(what: string, action: () => Promise<unknown>): Promise<void> {
    done = (await attempt(action)) ? what : ''
  }
</script>

<details>
  <summary>Look after it</summary>
  <p role="status" class="done">{done}</p>
  {#each tags as each (each.name)}
    <p class="line">Locked out by tag '{each.name}' of {each.by} since {day(each.since)}{each.reason ? `: ${each.reason}` : ''}
      {#if may}<button type="button" class="btn preset-outlined-surface-500" onclick={() => does(`The tag '${each.name}' is off.`, () => api.unlock(output.name, each.name))}>Take it off</button>{/if}</p>
  {/each}
  {#if may}
    <form onsubmit={(event) => { event.preventDefault(); void does(`${output.label} is locked out by '${tag.trim()}'.`, async () => { await api.lock(output.name, tag.trim(), reason); myName.now = tag.trim(); reason = '' }) }}>
      <label>Tag <input class="input" bind:value={tag} maxlength="60" required placeholder="whose" /></label>
      <label>Why <input class="input" bind:value={reason} maxlength="200" placeholder="new bulbs" /></label>
      <button type="submit" class="btn preset-outlined-surface-500" disabled={!tag.trim()}>Lock it out</button>
    </form>
    <form onsubmit={(event) => { event.preventDefault(); void does('The note is in the journal.', async () => { await api.note(output.name, text); text = '' }) }}>
      <label class="wide">Note <input class="input" bind:value={text} maxlength="500" required placeholder="contact cleaned" /></label>
      <button type="submit" class="btn preset-outlined-surface-500" disabled={!text.trim()}>Keep it</button>
    </form>
  {/if}
  {#if live.keeps && !output.confirmed}
    <form onsubmit={(event) => { event.preventDefault(); void does('It is attested.', () => api.attest(output.name, tag.trim())) }}>
      <p class="wide">Whoever has looked at it and found it safe says so, by name ({tag.trim() || 'the tag above'}).</p>
      <button type="submit" class="btn preset-outlined-surface-500" disabled={!tag.trim()}>I attest that it is off</button>
    </form>
  {/if}
  {#if guarded && live.keeps}
    <h3>Passcodes</h3>
    <ul>
      {#each codes as each (each.owner)}
        <li>{each.owner}{each.once ? ' (once)' : ''} <button type="button" class="btn preset-outlined-surface-500" onclick={() => does(`The code of ${each.owner} is taken.`, async () => { await api.takeCode(output.name, each.owner); await read() })}>Take it from {each.owner}</button></li>
      {:else}<li>Nobody has one.</li>{/each}
    </ul>
    <form onsubmit={(event) => { event.preventDefault(); void does(`${owner.trim()} has a code.`, async () => { await api.giveCode(output.name, owner.trim(), code, once); [owner, code, once] = ['', '', false]; await read() }) }}>
      <label>Who <input class="input" bind:value={owner} maxlength="60" required /></label>
      <label>Code <input class="input" type="password" inputmode="numeric" autocomplete="off" bind:value={code} maxlength="64" required /></label>
      <label class="check"><input type="checkbox" class="checkbox" bind:checked={once} /> works once</label>
      <button type="submit" class="btn preset-outlined-surface-500" disabled={!owner.trim() || !code}>Give it</button>
    </form>
  {/if}
</details>

<style>
  summary { display: list-item; min-height: 2.75rem; padding-block: 0.6rem; cursor: pointer; font-weight: 650; }
  form { display: flex; flex-wrap: wrap; gap: 0.5rem; align-items: end; margin-bottom: 0.8rem; }
  label { flex: 1 1 7rem; min-width: 0; font-size: 0.8rem; color: var(--soft); }
  .wide { flex: 1 1 12rem; }
  .input { display: block; width: 100%; min-height: 2.75rem; color: var(--ink); }
  .check { display: flex; gap: 0.4rem; align-items: center; min-height: 2.75rem; }
  .line, li { display: flex; flex-wrap: wrap; gap: 0.6rem; align-items: center; justify-content: space-between; margin-bottom: 0.5rem; overflow-wrap: anywhere; }
  h3 { font-size: 0.95rem; font-weight: 650; margin-bottom: 0.3rem; }
  .done { color: var(--well); }
</style>
