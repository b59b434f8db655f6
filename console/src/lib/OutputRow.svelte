<!-- One output: what it is at, a button that names its next action, a slider where it can be dimmed,
     and on demand the reason. -->
<script lang="ts">
  import * as api from './api'
  import Cairn from './Cairn.svelte'
  import ColourField from './ColourField.svelte'
  import Keypad from './Keypad.svelte'
  import HoldButton from './HoldButton.svelte'
  import LevelSlider from './LevelSlider.svelte'
  import ProgramPanel from './ProgramPanel.svelte'
  import TuneField from './TuneField.svelte'
  import { attempt, live } from './live.svelte'
  import type { Output, Why } from './types'

  let { output }: { output: Output } = $props()

  let open = $state(false)
  let composing = $state(false)
  let keypad = $state(false)
  let why = $state<Why>()

  const is = $derived(output.confirmed?.words ?? 'unknown')
  const aside = $derived(
    output.state === 'running' ? `${output.claims.find((claim) => claim.setting?.program)?.setting?.words ?? 'on its way'}`
    : output.state === 'confirmed' ? (output.by ? output.by : 'at rest')
    : output.state === 'driving' ? `on its way to ${output.driven?.words ?? output.allowed.words}`
    : `${output.state}: ${output.reason || 'tried again'}`,
  )
  const guarded = $derived(live.guarded.includes(output.name))
  const claimed = $derived(output.claims.some((claim) => claim.rank === 'person'))

  // the reason is asked for anew whenever the output changes while it is open
  $effect(() => {
    void output
    if (open && output.state !== 'running') attempt(async () => (why = await api.why(output.name)))
  })
</script>

<li class="row" data-output={output.name} data-state={output.state}>
  <Cairn {output} />
  <div class="names">
    <span class="label">{output.label}</span>
    <span class="aside" class:wary={!['confirmed', 'driving', 'running'].includes(output.state)} title={aside}>{aside}</span>
  </div>
  <output class="is" class:on={output.confirmed?.on} aria-label="{output.label} is {is}">{is}</output>
  {#if guarded && !output.wanted.on}
    <button type="button" class="btn preset-outlined-surface-500 action" aria-expanded={keypad} onclick={() => (keypad = !keypad)} aria-label="Open {output.label} with a passcode">Code …</button>
  {:else}
  <button
    type="button" class="btn {output.wanted.on ? 'preset-tonal-primary' : 'preset-outlined-surface-500'} action"
    disabled={output.takes === 'drive' && !output.wanted.on}
    title={output.takes === 'drive' && !output.wanted.on ? 'It is driven from its pad' : undefined}
    onclick={() => attempt(() => api.turn(output.name, output.wanted.on ? 'off' : 'on'))}
    aria-label="Turn {output.label} {output.wanted.on ? 'off' : 'on'}"
  >
    {output.wanted.on ? 'Turn off' : output.takes === 'tone' ? 'Sound' : 'Turn on'}
  </button>
  {/if}
  <button type="button" class="btn btn-sm why" aria-expanded={open} aria-label="Why is {output.label} {is}?" onclick={() => (open = !open)}>Why</button>
  {#if guarded && keypad}<Keypad {output} done={() => (keypad = false)} />{/if}
  {#if output.takes === 'colour'}
    <div class="level"><ColourField {output} /></div>
  {:else if output.takes === 'tone'}
    <div class="level"><TuneField {output} /></div>
  {:else if output.takes === 'level' && output.dimmable}
    <div class="level"><LevelSlider {output} /></div>
  {:else if output.takes === 'level' && output.kind === 'motor'}
    <div class="level"><HoldButton {output} /></div>
  {/if}
  {#if open}
    <div class="reason">
      {#if why}
        <p>{why.sentence}</p>
        <dl>
          {#each why.steps as step (step.stage + step.text)}
            <dt>{step.stage}</dt>
            <dd>{step.text}</dd>
          {/each}
          {#if why.remedy}
            <dt>to change</dt>
            <dd>{why.remedy}</dd>
          {/if}
          <dt>pin</dt>
          <dd>{output.pin} (line {output.line}){live.boards[output.board]?.up ? '' : ', not answering'}</dd>
        </dl>
      {/if}
      {#if output.takes === 'level' || output.takes === 'colour'}
        <button type="button" class="btn btn-sm preset-outlined-surface-500" aria-expanded={composing} onclick={() => (composing = !composing)}>
          Program for {output.label} …
        </button>
      {/if}
      <button type="button" class="btn btn-sm preset-outlined-surface-500" disabled={!claimed} onclick={() => attempt(() => api.release(output.name))}>
        Release {output.label}
      </button>
      {#if composing}<ProgramPanel {output} />{/if}
    </div>
  {/if}
</li>

<style>
  .row { display: grid; grid-template-columns: auto minmax(0, 1fr) 5.2rem 6.2rem 3.2rem; align-items: center; column-gap: 0.7rem; padding: 0.55rem 0; border-top: 1px solid var(--line); }
  .names { display: flex; flex-direction: column; min-width: 0; }
  .label { font-weight: 600; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
  .aside { font-size: 0.78rem; color: var(--quiet); white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
  .aside.wary { color: var(--wary); }
  .is { text-align: right; font-weight: 600; color: var(--quiet); }
  .is.on { color: var(--on); }
  .action { width: 100%; padding-inline: 0.4rem; font-size: 0.9rem; }
  .why { color: var(--quiet); padding-inline: 0.3rem; text-decoration: underline dotted; }
  .level { grid-column: 2 / -1; padding: 0.35rem 3.9rem 0.2rem 0; }
  .reason { grid-column: 2 / -1; margin: 0.5rem 0 0.3rem; padding: 0.7rem 0.9rem; border-left: 3px solid var(--on); font-size: 0.85rem; background: light-dark(var(--color-surface-100), var(--color-surface-950)); }
  dl { display: grid; grid-template-columns: auto 1fr; gap: 0.15rem 0.8rem; margin: 0.5rem 0 0.7rem; }
  dt { color: var(--quiet); }
  @media (max-width: 30rem) {
    .row { grid-template-columns: auto minmax(0, 1fr) 4.4rem; row-gap: 0.35rem; }
    .action { grid-column: 1 / 3; }
    .level, .reason { grid-column: 1 / -1; padding-right: 0.4rem; }
    .reason { padding-right: 0.9rem; }
  }
</style>
