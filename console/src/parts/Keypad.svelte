<!-- A passcode, by touch or by keys. What is typed is not shown, and gone after each try. -->
<script lang="ts">
  let { of, word, enter }: { of: string; word: string; enter: (code: string) => Promise<string> } = $props()

  let code = $state('')
  let said = $state('')
  let busy = $state(false)

  async function open(event?: Event) {
    event?.preventDefault()
    if (!code || busy) return
    busy = true
    const given = code
    code = ''
    said = await enter(given)
    busy = false
  }
</script>

<form class="keypad" onsubmit={open} aria-label="Passcode of {of}">
  <label>
    <span>Passcode of {of}</span>
    <input class="input" type="password" inputmode="numeric" autocomplete="off" bind:value={code} disabled={busy} maxlength="64" />
  </label>
  <div class="keys">
    {#each ['1', '2', '3', '4', '5', '6', '7', '8', '9'] as key (key)}
      <button type="button" class="btn preset-outlined-surface-500" onclick={() => (code += key)}>{key}</button>
    {/each}
    <button type="button" class="btn preset-outlined-surface-500" onclick={() => (code = '')} aria-label="Clear the passcode">Clear</button>
    <button type="button" class="btn preset-outlined-surface-500" onclick={() => (code += '0')}>0</button>
    <button type="submit" class="btn preset-filled-primary-500" disabled={!code || busy}>{busy ? 'Checking' : word}</button>
  </div>
  <p role="status" class:said>{said}</p>
</form>

<style>
  .keypad { grid-column: 2 / -1; max-width: 17rem; margin: 0.5rem 0 0.6rem; }
  label span { display: block; font-size: 0.8rem; color: var(--quiet); margin-bottom: 0.2rem; }
  .keys { display: grid; grid-template-columns: repeat(3, 1fr); gap: 0.4rem; margin-top: 0.5rem; }
  .keys .btn { min-height: 2.9rem; font-size: 1.05rem; font-weight: 600; padding-inline: 0.2rem; }
  .said { margin-top: 0.5rem; font-size: 0.85rem; font-weight: 600; }
  @media (max-width: 30rem) { .keypad { grid-column: 1 / -1; } }
</style>
