<!-- Everything about one output, from its tile: level, colour, tune, how long, what it does on its way, why it is so, who claims it. -->
<script lang="ts">
  import { Dialog, Portal } from '@skeletonlabs/skeleton-svelte'
  import Pin from '@lucide/svelte/icons/pin'
  import PinOff from '@lucide/svelte/icons/pin-off'
  import X from '@lucide/svelte/icons/x'
  import * as api from '../state/api'
  import { later } from '../state/later'
  import { release, turn } from '../state/act.svelte'
  import { flip, pinned } from '../state/kept.svelte'
  import { panel } from '../state/panel.svelte'
  import { day, live } from '../state/live.svelte'
  import { flip as flipStay, stays } from '../state/stay'
  import { is } from '../state/words'
  import type { Why } from '../state/types'
  import Blink from './Blink.svelte'
  import Cairn from './Cairn.svelte'
  import Care from './Care.svelte'
  import Circuit from './Circuit.svelte'
  import ColourField from './ColourField.svelte'
  import Decision from './Decision.svelte'
  import Keypad from './Keypad.svelte'
  import LevelSlider from './LevelSlider.svelte'
  import PlanIt from './PlanIt.svelte'
  import ProgramPanel from './ProgramPanel.svelte'
  import TuneField from './TuneField.svelte'

  let { name, close }: { name: string; close: () => void } = $props()

  const LONGER = [['until the plan takes over', ''], ['for 1 minute', '1 min'], ['for 10 minutes', '10 min'], ['for 1 hour', '1 h'], ['for 8 hours', '8 h']] as const
  const output = $derived(live.outputs[name])
  const may = $derived(live.may(name))
  const guarded = $derived(live.guarded.includes(name))
  const claimed = $derived(output?.claims.some((claim) => claim.rank === 'person'))
  let why = $state<Why>()
  let lasting = $state('')
  async function unlock(code: string): Promise<string> {
    const said = await api.refusal(() => api.openGuarded(name, code))
    if (!said) close()
    return said
  }

  let deciding = $state(false)
  let drawn = $state(false)
  let composing = $state(false)
  let planning = $state(false)
  let refused = $state('')

  // the reason follows the output; while it moves it is asked for again every half second
  $effect(() => {
    void output
    const asked = name
    return later(output?.state === 'running' ? 500 : 0, () => api.why(asked), (its) => (why = its)) // the frame says when the service is away
  })

  async function set(setting: string | number): Promise<void> {
    refused = await turn(output, setting, lasting ? { for: lasting } : {})
  }
</script>

{#if output}
<Dialog open modal={false} trapFocus={false} preventScroll={false} onOpenChange={(change) => { if (!change.open) close() }}>
  <Portal>
    <Dialog.Backdrop class="sheet-back" />
    <Dialog.Positioner class="sheet-place">
      <Dialog.Content class="sheet" data-sheet={name}>
        <header>
          <Cairn {output} />
          <div>
            <Dialog.Title class="sheet-title">{output.label}</Dialog.Title>
            <p class="beneath">{output.place || 'elsewhere'}; is <strong>{is(output)}</strong></p>
          </div>
          <button type="button" class="icon" aria-pressed={pinned.now.includes(name)} aria-label={pinned.now.includes(name) ? `Take ${output.label} off the top` : `Keep ${output.label} at the top`} onclick={() => flip(pinned, name)}>
            {#if pinned.now.includes(name)}<PinOff size={20} aria-hidden="true" />{:else}<Pin size={20} aria-hidden="true" />{/if}
          </button>
          <Dialog.CloseTrigger class="icon" aria-label="Close"><X size={22} aria-hidden="true" /></Dialog.CloseTrigger>
        </header>

        {#if refused}<p class="refused" role="alert">{refused}</p>{/if}

        {#if !may}
          <p class="beneath">{live.lost ? 'The link is lost: nothing can be commanded.' : live.role === 'watch' ? `The key '${live.key}' may only watch.` : `The key '${live.key}' may not command this output.`}</p>
        {:else if guarded && !output.wanted.on}
          <Keypad of={output.label} word={output.confirmed?.on ? 'Again' : 'Open'} enter={unlock} />
        {:else}
          <div class="acts">
            {#if output.takes !== 'drive'}
              <button type="button" class="btn preset-outlined-surface-500" disabled={output.wanted.on && output.takes !== 'level'} onclick={() => set('on')}>{output.takes === 'tone' ? 'Sound' : output.kind === 'motor' ? 'Keep it running' : output.words[1]}</button>
            {/if}
            <button type="button" class="btn preset-outlined-surface-500" onclick={() => set('off')}>{output.words[0]}</button>
            {#if output.takes !== 'drive'}
              <label class="longer">How long
                <select class="select" bind:value={lasting}>{#each LONGER as [words, span] (span)}<option value={span}>{words}</option>{/each}</select>
              </label>
              <button type="button" class="btn {stays.has(name) ? 'preset-tonal-primary' : 'preset-outlined-surface-500'}" aria-pressed={stays.has(name)} onclick={async () => (refused = await flipStay(name))}>Only while this page is open</button>
            {/if}
          </div>
          {#if output.takes === 'colour'}<ColourField {output} />
          {:else if output.takes === 'tone'}<TuneField {output} />
          {:else if output.takes === 'level' && output.dimmable}<LevelSlider {output} />{/if}
          {#if output.takes === 'level' || output.takes === 'colour'}
            <div class="acts">
              <button type="button" class="btn preset-outlined-surface-500" aria-expanded={composing} onclick={() => (composing = !composing)}>Fade, blink or another program …</button>
              <button type="button" class="btn preset-outlined-surface-500" aria-expanded={planning} onclick={() => (planning = !planning)}>Plan it …</button>
            </div>
            {#if composing}<ProgramPanel {output} />{/if}
            {#if planning}<PlanIt {output} done={() => (planning = false)} />{/if}
          {/if}
        {/if}

        <section aria-label="Why" class="why">
          <h3>Why</h3>
          {#if why}
            <p>{why.sentence}</p>
            <dl>
              {#each why.steps as step, number (number)}<dt>{step.stage}</dt><dd>{step.text}</dd>{/each}
              {#if why.remedy}<dt>to change</dt><dd>{why.remedy}</dd>{/if}
              <dt>pin</dt><dd>{output.pin} (line {output.line}){live.boards[output.board]?.up ? '' : ', not answering'}</dd>
            </dl>
          {/if}
        </section>
        {#if output.claims.length}
          <section aria-label="Claims">
            <h3>Who wants what</h3>
            <ul class="claims">
              {#each output.claims as claim (claim.id)}
                <li><strong>{claim.setting?.words ?? '?'}</strong> {claim.rank === 'plan' || claim.rank === 'reflex' ? claim.slot.slice(claim.slot.indexOf(':') + 1) : claim.source} ({claim.rank}){claim.ends ? `, until ${day(claim.ends)}` : ''}</li>
              {/each}
            </ul>
          </section>
        {/if}
        <details ontoggle={(event) => (deciding = event.currentTarget.open)}>
          <summary>How it was decided</summary>
          {#if deciding}<Decision {name} />{/if}
        </details>
        <details ontoggle={(event) => (drawn ||= event.currentTarget.open)}>
          <summary>How it is wired</summary>
          {#if drawn}<Blink outputs={[name]} words="Blink it, to find it" /><Circuit {name} />{#if !panel.locked}<p class="all"><a href="#site/wiring/{encodeURIComponent(name)}">Every wire of the site</a></p>{/if}{/if}
        </details>
        {#if live.role !== 'watch'}<Care {output} {may} />{/if}
        <footer>
          {#if may}<button type="button" class="btn preset-outlined-surface-500" disabled={!claimed} onclick={async () => (refused = await release(output))}>Release {output.label}</button>{/if}
          {#if !panel.locked}
            <a class="btn preset-outlined-surface-500" href="#journal/rows/{encodeURIComponent(name)}">Journal</a>
            <a class="btn preset-outlined-surface-500" href="#bench/signals">Signals</a>
            <a class="btn preset-outlined-surface-500" href="#site/boards/{encodeURIComponent(output.board)}">Its board</a>
            {#if live.keeps}<a class="btn preset-outlined-surface-500" href="#site/changes/output/{encodeURIComponent(name)}">Change it …</a>{/if}
          {/if}
        </footer>
      </Dialog.Content>
    </Dialog.Positioner>
  </Portal>
</Dialog>
{/if}

<style>
  header { display: grid; grid-template-columns: auto minmax(0, 1fr) auto auto; align-items: center; gap: 0.7rem; }
  :global(.sheet-back) { position: fixed; inset: 0; background: rgb(0 0 0 / 0.45); z-index: 40; pointer-events: none; }
  :global(.sheet-place) { position: fixed; inset: 3.9rem 0 0; display: flex; justify-content: flex-end; z-index: 41; pointer-events: none; }
  :global(.sheet) { pointer-events: auto; width: min(30rem, 100vw); height: 100%; overflow: auto; padding: 1rem 1.2rem 2rem; display: flex; flex-direction: column; gap: 0.9rem; background: var(--stone); color: var(--ink); border-left: 1px solid var(--line); }
  :global(.sheet-title) { display: block; font-size: 1.3rem; font-weight: 700; line-height: 1.2; overflow-wrap: anywhere; }
  :global(.sheet .icon) { width: 2.75rem; height: 2.75rem; display: grid; place-items: center; border-radius: var(--radius-base); color: var(--soft); }
  :global(.sheet .icon[aria-pressed='true']) { color: var(--on); }
  :global(.sheet .btn) { min-height: 2.75rem; white-space: normal; }
  .beneath { color: var(--soft); font-size: 0.9rem; }
  .refused { padding: 0.6rem 0.8rem; border: 2px solid var(--ill); border-radius: var(--radius-base); }
  .acts { display: flex; flex-wrap: wrap; align-items: end; gap: 0.6rem; }
  .longer { font-size: 0.8rem; color: var(--soft); }
  .longer .select { display: block; min-height: 2.75rem; width: auto; }
  h3 { font-size: 0.95rem; font-weight: 650; margin-bottom: 0.25rem; }
  .why { padding: 0.7rem 0.9rem; border-left: 4px solid var(--on); background: var(--ground); font-size: 0.9rem; line-height: 1.45; overflow-wrap: anywhere; }
  dl { display: grid; grid-template-columns: auto 1fr; gap: 0.2rem 0.8rem; margin-top: 0.5rem; }
  dt { color: var(--soft); }
  summary { display: list-item; min-height: 2.75rem; padding-block: 0.6rem; cursor: pointer; font-weight: 650; }
  .all a { display: inline-flex; align-items: center; min-height: 2.75rem; color: var(--on); text-decoration: underline; text-underline-offset: 3px; }
  .claims { font-size: 0.9rem; line-height: 1.6; }
  footer { display: flex; flex-wrap: wrap; gap: 0.6rem; }
  @media (max-width: 40rem) {
    :global(.sheet-place) { align-items: flex-end; }
    :global(.sheet) { width: 100vw; height: auto; max-height: 88dvh; border-left: 0; border-radius: var(--radius-container) var(--radius-container) 0 0; padding-bottom: 3rem; }
  }
</style>
