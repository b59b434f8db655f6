<!-- The page 'Boards and pins': one board at a time, its wiring, its pins, and what goes over its wire.
     It shows GET /api/v1/boards/NAME, …/pins and …/traffic, read again every second while it is open. -->
<script lang="ts">
  import * as api from '../state/api'
  import { clock, live } from '../state/live.svelte'
  import Blink from '../parts/Blink.svelte'
  import Header from '../parts/Header.svelte'
  import Machine from '../parts/Machine.svelte'
  import PinTile from '../parts/PinTile.svelte'
  import Supplies from '../parts/Supplies.svelte'
  import Inputs from '../parts/Inputs.svelte'
  import Tile from '../parts/Tile.svelte'
  import TryPin from '../parts/TryPin.svelte'
  import type { BoardWhole, PinForm } from '../state/types'
  import WireLog from '../parts/WireLog.svelte'

  let { name, more }: { name: string; more: (name: string) => void } = $props()

  let whole = $state<BoardWhole>()
  let pins = $state<PinForm[]>([])
  let picked = $state<string>()

  const boards = $derived(Object.values(live.boards))
  const shown = $derived(live.boards[name] ? name : boards[0]?.name)
  const board = $derived(shown ? live.boards[shown] : undefined)
  const wired = $derived(Object.values(live.outputs).filter((output) => output.board === shown).map((output) => output.name))
  const sensed = $derived(Object.values(live.inputs).filter((input) => input.board === shown).map((input) => input.name))
  const connectors = $derived([...new Set(pins.map((pin) => pin.connector))])
  const choose = (pin: PinForm) => (picked = picked === pin.pin ? undefined : (pin.pin ?? undefined))
  /** Its address switches, as they have to be set. */
  const switches = $derived(whole?.name === shown && Array.isArray(whole.facts.switches) ? (whole.facts.switches as boolean[]) : undefined)
  const trying = $derived(pins.find((pin) => pin.pin && pin.pin === picked))

  $effect(() => {
    const of = shown
    if (!of) return
    pins = []
    picked = undefined
    const read = async () => {
      try {
        const [its, all] = await Promise.all([api.boardWhole(of), api.pins(of)])
        if (of === shown) [whole, pins] = [its, all]
      } catch {
        // the page says already that the service is away
      }
    }
    void read()
    const timer = setInterval(read, 1000)
    return () => clearInterval(timer)
  })
</script>

<main id="content" tabindex="-1">
  <ul class="boards" aria-label="Boards">
    {#each boards as each (each.name)}
      <li>
        <a href="#site/boards/{encodeURIComponent(each.name)}" aria-current={each.name === shown ? 'page' : undefined} data-board-tab={each.name} class:down={!each.up}>
          <strong>{each.name}</strong>
          <span>{each.up ? each.link : 'does not answer'}</span>
        </a>
      </li>
    {/each}
  </ul>

  {#if board}
    <section class="facts" aria-label="Board {board.name}">
      <h2>{board.label}</h2>
      <p class:down={!board.up}>{board.up ? `answers since ${clock(board.since)}` : `does not answer since ${clock(board.since)}: ${board.reason}`}</p>
      {#if whole && whole.name === shown}
        <p class="quiet">
          {whole.link}{#each Object.entries(whole.facts).filter(([fact]) => fact !== 'switches') as [fact, value] (fact)}, {fact} {fact === 'address' ? `0x${Number(value).toString(16).toUpperCase()}` : value}{/each};
          confirms by: {whole.confirms}; {whole.rounds_a_second} rounds a second, {whole.errors} errors
        </p>
      {/if}
      {#if switches}
        <p class="switches">Its address switches: {#each switches as up, number (number)}<span class="switch" class:up><i aria-hidden="true"></i>{number} {up ? 'on' : 'off'}</span>{/each}</p>
      {/if}
      <p class="acts">
        {#if live.keeps}<a class="btn preset-outlined-surface-500" href="#site/changes/board/{encodeURIComponent(board.name)}">Change this board …</a>{/if}
        <a class="btn preset-outlined-surface-500" href="#site/walk/{encodeURIComponent(board.name)}">Walk through what is wired to it …</a>
      </p>
      {#key shown}<Blink outputs={wired} words="Blink its outputs in turn" />{/key}
    </section>

    <div class="columns">
      <div>
        {#each connectors as connector (connector)}
          <section class="card" aria-label={connector ? `Connector ${connector}` : 'Lines'}>
            <h3>{connector ?? 'Lines'}</h3>
            {#if connector}
              <Header name={connector} pins={pins.filter((pin) => pin.connector === connector)} {picked} pick={choose} />
            {:else}
              <div class="tiles">
                {#each pins as pin (pin.line)}<PinTile {pin} picked={pin.pin !== null && pin.pin === picked} pick={() => choose(pin)} />{/each}
              </div>
            {/if}
          </section>
          {#if trying && shown && trying.connector === connector}
            {#key trying.pin}
              <TryPin board={shown} pin={trying} close={() => (picked = undefined)} />
            {/key}
          {/if}
        {/each}
      </div>
      <div>
        <section class="card" aria-label="wired to {board.name}">
          <h3>Wired to it</h3>
          <ul class="wired">{#each wired as output (output)}<Tile name={output} {more} />{/each}</ul>
          <Inputs names={sensed} label="Inputs of {board.name}" simulated={whole?.simulated} change />
        </section>
        {#key shown}
          <WireLog name={shown!} read={(after) => api.wire(shown!, after)} />
        {/key}
      </div>
    </div>
    <Supplies />
    {#if live.keeps}<Machine />{/if}
  {:else}
    <p>The site has no boards yet. Add one: <a href="#site/changes/board">a board</a>, or write <code>[board.…]</code> into its file and read it anew.</p>
  {/if}
</main>

<style>
  .wired { display: grid; grid-template-columns: repeat(auto-fill, minmax(10rem, 1fr)); gap: 0.6rem; margin-bottom: 0.6rem; }
  .boards { display: flex; flex-wrap: wrap; gap: 0.5rem; margin-bottom: 0.9rem; }
  .boards a { display: block; padding: 0.45rem 0.9rem; background: var(--stone); border: 1px solid var(--line); border-left: 4px solid var(--well); }
  .boards a[aria-current] { border-color: var(--on); }
  .boards a.down { border-left-color: var(--ill); }
  .boards span { display: block; font-size: 0.78rem; color: var(--quiet); }
  .boards .down span { color: var(--ill); }
  .facts { margin-bottom: 0.8rem; font-size: 0.88rem; }
  .facts h2 { font-size: 1.1rem; }
  .facts .down { color: var(--ill); font-weight: 600; }
  .switches { display: flex; flex-wrap: wrap; gap: 0.3rem 1rem; align-items: center; margin: 0.3rem 0; }
  .switch { display: inline-flex; gap: 0.4rem; align-items: center; font-weight: 600; }
  .switch i { position: relative; width: 0.8rem; height: 1.5rem; border: 2px solid var(--edge); border-radius: 3px; }
  .switch i::after { content: ''; position: absolute; inset: auto 1px 1px; height: 0.55rem; background: var(--soft); border-radius: 1px; }
  .switch.up i::after { inset: 1px 1px auto; background: var(--on); }
  .acts { display: flex; flex-wrap: wrap; gap: 0.6rem; margin-block: 0.5rem; }
  .acts .btn { min-height: 2.75rem; }
  .quiet { color: var(--quiet); }
  .columns { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(100%, 26rem), 1fr)); column-gap: 1rem; align-items: start; }
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.8rem 1rem 1rem; margin-bottom: 1rem; }
  h3 { font-size: 0.8rem; letter-spacing: 0.09em; text-transform: uppercase; color: var(--quiet); margin-bottom: 0.5rem; }
  .tiles { display: grid; grid-template-columns: repeat(auto-fill, minmax(8.6rem, 1fr)); gap: 0.4rem; }
</style>
