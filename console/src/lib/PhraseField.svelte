<!-- One line to say what is to be done. It shows POST /api/v1/phrases, first what it would do, then that it is done. -->
<script lang="ts">
  import * as api from './api'
  import { Problem } from './api'
  import type { Dry } from './types'

  let text = $state('')
  let dry = $state<Dry>()
  let wrong = $state('')
  let choices = $state<string[]>([])
  let span = $state<[number, number]>([0, 0])
  let done = $state('')
  let waiting: ReturnType<typeof setTimeout> | undefined

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
    if (!text.trim()) return void (dry = undefined)
    waiting = setTimeout(async () => {
      const asked = text
      try {
        const found = await api.dryPhrase(asked)
        if (asked === text) [dry, wrong] = [found, '']
      } catch (error) {
        if (asked === text) fail(error)
      }
    }, 250)
  }

  async function say(event: SubmitEvent): Promise<void> {
    event.preventDefault()
    clearTimeout(waiting)
    if (!text.trim()) return
    try {
      const found = await api.say(text)
      done = `${found.phrase}: ${found.ending?.ending ?? found.outcome}${found.reason ? ` (${found.reason})` : ''}`
      ;[dry, wrong, text, choices] = [undefined, '', '', []]
    } catch (error) {
      fail(error)
    }
  }

  function choose(choice: string): void {
    text = text.slice(0, span[0]) + choice + text.slice(span[1])
    typed()
  }
</script>

<form class="card" onsubmit={say}>
  <label for="phrase">Say what to do</label>
  <div class="line">
    <input id="phrase" class="input" autocomplete="off" spellcheck="false" placeholder="turn gallery to 40 % over 3 s for 10 min" bind:value={text} oninput={typed} aria-describedby="understood" />
    <button type="submit" class="btn btn-sm preset-filled-primary-500" disabled={!text.trim()}>Do it</button>
  </div>
  <p id="understood" aria-live="polite">
    {#if wrong}
      <span class="wrong">{wrong}</span>
      {#each choices as choice (choice)}<button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => choose(choice)}>{choice}</button>{/each}
    {:else if dry}
      <strong>{dry.phrase}</strong>
      {#each dry.steps.flatMap((step) => step.orders).slice(0, 6) as order, number (number)}<span>{order.label}: {order.act === 'claim' ? order.setting?.words : order.act} {order.lasting}</span>{/each}
    {:else if done}<span class="done">{done}</span>{/if}
  </p>
</form>

<style>
  form { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.6rem 1rem 0.5rem; margin-bottom: 1rem; }
  label { font-size: 0.8rem; color: var(--quiet); }
  .line { display: flex; gap: 0.6rem; }
  p { display: flex; flex-wrap: wrap; gap: 0.2rem 0.9rem; align-items: center; font-size: 0.83rem; min-height: 1.4rem; margin-top: 0.3rem; }
  p span { color: var(--quiet); }
  p .wrong { color: var(--ill); }
  p .done { color: var(--well); }
</style>
