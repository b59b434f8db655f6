<!-- A connector as it is on the board: two rows, odd numbers left and even ones right, pin 1 square; each with both its numbers, what it
     can, who has it, how high it is and, told apart from that, whether what is wired to it is on. A bare pin can be picked, to be tried. -->
<script lang="ts">
  import { live } from '../state/live.svelte'
  import type { PinForm } from '../state/types'

  let { name, pins, picked, pick }: { name: string; pins: PinForm[]; picked: string | undefined; pick: (pin: PinForm) => void } = $props()

  const at = $derived(new Map(pins.map((pin) => [pin.number ?? 0, pin])))
  const rows = $derived(Array.from({ length: Math.ceil(Math.max(0, ...at.keys()) / 2) }, (_, row) => [at.get(row * 2 + 1), at.get(row * 2 + 2)]))

  const user = (pin: PinForm) => pin.user.split(' ')[1] ?? ''
  /** What is wired to it is on: an active-low one is, while its line is low. */
  const on = (pin: PinForm) => (pin.user.startsWith('output') ? live.outputs[user(pin)]?.confirmed?.on : undefined)
  const dims = (pin: PinForm) => pin.user.startsWith('output') && (pin.can ?? []).includes('pwm')
  const may = (pin: PinForm) => pin.line !== null && !pin.holder && (!pin.user || dims(pin))
  const level = (pin: PinForm) => (pin.high === null ? '' : pin.high === 0 ? 'low' : pin.high === 100 ? 'high' : `${Math.round(pin.high)} % high`)
  const what = (pin: PinForm) => (pin.line === null ? pin.role : pin.trial ? 'being tried' : (live.outputs[user(pin)] ?? live.inputs[user(pin)])?.label || user(pin) || (pin.holder ? `held: ${pin.holder}` : pin.title || 'free'))
  const beside = (pin: PinForm) => [pin.line === null ? '' : `line ${pin.line}`, ...(pin.can ?? []), pin.timer, level(pin)].filter(Boolean).join(', ')
</script>

{#snippet side(pin: PinForm | undefined, right: boolean)}
  {#if pin}
    <button type="button" class="side" class:right class:used={!!pin.user} class:blank={pin.line === null} class:tried={!!pin.trial} disabled={!may(pin)} aria-pressed={may(pin) ? picked === pin.pin : undefined}
      onclick={() => pick(pin)} data-pin={pin.pin ?? pin.position} title={pin.power_on ? `before software: ${pin.power_on}` : undefined}>
      <span class="words"><b>{what(pin)}</b>{#if on(pin) !== undefined}<i class:on={on(pin)}>{on(pin) ? 'on' : 'off'}</i>{/if}<small>{beside(pin)}</small>{#if pin.trouble}<small class="trouble">{pin.trouble}</small>{/if}</span>
      <span class="number" aria-hidden="true">{pin.number}</span><span class="sr">{pin.position}</span>
      <span class="pad" class:first={pin.number === 1} style:--high="{pin.high ?? 0}%" aria-hidden="true"></span>
    </button>
  {:else}<span></span>{/if}
{/snippet}

<ol aria-label="Connector {name}">
  {#each rows as [odd, even], number (number)}
    <li>{@render side(odd, false)}{@render side(even, true)}</li>
  {/each}
</ol>

<style>
  .words .trouble { color: var(--ill); }
  ol { border-radius: var(--radius-base); background: linear-gradient(var(--ground), var(--ground)) center / 6.4rem 100% no-repeat; }
  li { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); }
  .side { display: flex; align-items: center; gap: 0.5rem; min-width: 0; min-height: 2.9rem; padding-right: 0.35rem; text-align: right; border-radius: var(--radius-base); cursor: pointer; }
  .right { flex-direction: row-reverse; padding: 0 0 0 0.35rem; text-align: left; }
  .side:disabled { cursor: default; opacity: 1; }
  .side:not(:disabled):hover .pad, .side[aria-pressed='true'] .pad { outline: 3px solid var(--on); }
  .side[aria-pressed='true'] { background: color-mix(in oklab, var(--glow) 30%, transparent); }
  .words { flex: 1; min-width: 0; font-size: 0.85rem; line-height: 1.25; }
  b { display: inline; font-weight: 400; color: var(--soft); overflow-wrap: anywhere; }
  .used b { color: var(--ink); font-weight: 650; }
  .tried b { color: var(--wary); font-weight: 650; }
  i { display: inline-block; margin-inline: 0.35rem; padding: 0 0.4rem; border: 1px solid var(--edge); border-radius: 0.7rem; font-style: normal; font-size: 0.74rem; line-height: 1.15rem; }
  i.on { border-color: var(--on); color: var(--on); font-weight: 650; }
  small { display: block; font-size: 0.76rem; color: var(--soft); }
  .number { min-width: 1.2rem; text-align: center; font-size: 0.8rem; color: var(--soft); font-weight: 600; }
  /* filled from below as far as the line is high */
  .pad { flex: none; width: 1.3rem; height: 1.3rem; border: 2px solid var(--soft); border-radius: 50%; background: linear-gradient(to top, var(--soft) var(--high), var(--stone) var(--high)); }
  .first { border-radius: 2px; }
  .blank .pad { border-style: dashed; }
</style>
