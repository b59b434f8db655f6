<!-- One position of a connector: both its numbers, what it can, who has it, and how high it is.
     The line at its foot is as long as the pin is high. A bare pin can be picked, to be tried. -->
<script lang="ts">
  import { live } from '../state/live.svelte'
  import type { PinForm } from '../state/types'

  let { pin, picked, pick }: { pin: PinForm; picked: boolean; pick: () => void } = $props()

  const user = $derived(pin.user.split(' ')[1] ?? '')
  /** What is wired to it is on: an active-low one is, while its line is low. */
  const on = $derived(pin.user.startsWith('output') ? live.outputs[user]?.confirmed?.on : undefined)
  const dims = $derived(pin.user.startsWith('output') && (pin.can ?? []).includes('pwm'))
  const may = $derived(pin.line !== null && !pin.holder && (!pin.user || dims))
  const what = $derived(pin.line === null ? pin.role : pin.trial ? 'being tried' : (live.outputs[user] ?? live.inputs[user])?.label || user || (pin.holder ? `held: ${pin.holder}` : pin.title || 'free'))
</script>

<button type="button" class="tile" class:blank={pin.line === null} class:used={!!pin.user} class:tried={!!pin.trial} class:picked disabled={!may}
  onclick={pick} aria-pressed={picked} data-pin={pin.pin ?? pin.position} title={pin.power_on ? `before software: ${pin.power_on}` : undefined}>
  <span class="numbers"><strong>{pin.position ?? `line ${pin.line}`}</strong>{#if pin.position && pin.line !== null}<span>line {pin.line}</span>{/if}</span>
  <span class="what">{what}</span>
  {#if pin.can?.length}<span class="can">{pin.can.join(' ')}{pin.timer ? ` · ${pin.timer}` : ''}</span>{/if}
  {#if pin.trouble}<span class="trouble">{pin.trouble}</span>{/if}
  {#if pin.high !== null}<span class="is" class:on={on}>{on === undefined ? '' : on ? 'on, ' : 'off, '}{pin.high === 0 ? 'low' : pin.high === 100 ? 'high' : `${Math.round(pin.high)} % high`}</span><span class="high" class:on={on} style:width="{pin.high}%"></span>{/if}
</button>

<style>
  .trouble { color: var(--ill); font-size: 0.78rem; }
  .tile { position: relative; display: flex; flex-direction: column; text-align: left; padding: 0.35rem 0.55rem 0.5rem; min-height: 3.9rem; border: 1px solid var(--line); overflow: hidden; font-size: 0.82rem; cursor: pointer; }
  .tile:disabled { cursor: default; opacity: 1; }
  .tile:not(:disabled):hover, .picked { border-color: var(--on); }
  .picked { outline: 2px solid var(--on); }
  .tile.blank { opacity: 0.55; border-style: dashed; min-height: 0; }
  .numbers { display: flex; justify-content: space-between; gap: 0.4rem; }
  .numbers span, .can { color: var(--quiet); font-size: 0.74rem; }
  .what { white-space: nowrap; overflow: hidden; text-overflow: ellipsis; color: var(--quiet); }
  .used .what { color: inherit; font-weight: 600; }
  .tried .what { color: var(--wary); font-weight: 600; }
  .is { color: var(--soft); font-size: 0.75rem; }
  .is.on { color: var(--on); font-weight: 600; }
  .high { position: absolute; left: 0; bottom: 0; height: 4px; background: var(--edge); }
  .high.on { background: var(--on); }
</style>
