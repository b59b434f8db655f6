<!-- The page 'Now': what is wrong, what this person keeps at the top, the scenes, then every place. It shows GET /api/v1/events. -->
<script lang="ts">
  import ChevronDown from '@lucide/svelte/icons/chevron-down'
  import { untrack } from 'svelte'
  import * as api from '../state/api'
  import { flip, folded, pinned, used } from '../state/kept.svelte'
  import { attempt, live } from '../state/live.svelte'
  import Groups from '../parts/Groups.svelte'
  import Inputs from '../parts/Inputs.svelte'
  import PadField from '../parts/PadField.svelte'
  import Tile from '../parts/Tile.svelte'
  import Wrong from '../parts/Wrong.svelte'

  let { more }: { more: (name: string) => void } = $props()

  const MANY = 60
  let filter = $state('')
  // a key for some outputs sees those first; the whole site is one step away
  let whole = $state(false)
  const mine = (name: string) => whole || live.only === null || live.only.includes(name)

  // what things are and where does not change while one looks: only a new picture of the site changes it
  const still = <T extends { name: string; label: string; place: string }>(some: T[]) => some.map(({ name, label, place }) => ({ name, label, place: place || 'elsewhere' }))
  const things = $derived.by(() => {
    void [live.pictures, whole, live.only]
    return untrack(() => still(live.names.filter(mine).map((name) => live.outputs[name])))
  })
  const inputs = $derived.by(() => {
    void live.pictures
    return untrack(() => still(Object.values(live.inputs)))
  })
  const found = $derived.by(() => {
    const words = filter.toLowerCase().split(/\s+/).filter(Boolean)
    return words.length ? things.filter((each) => words.every((word) => `${each.name} ${each.label} ${each.place}`.toLowerCase().includes(word))) : things
  })
  const places = $derived([...new Set([...found.map((each) => each.place), ...(filter || live.only ? [] : inputs.map((each) => each.place))])])
  const big = $derived(live.names.length > MANY)
  const shut = (place: string) => !filter && (big ? !folded.now.includes(place) : folded.now.includes(place))
  const top = $derived(pinned.now.filter((name) => live.names.includes(name)))
  // what was used most here comes next, as it was when the page was opened: nothing moves under a finger
  const OFTEN = 3
  const TOP = 8
  const counts = untrack(() => ({ ...used.now }))
  const most = $derived(
    live.names.length <= TOP ? [] : Object.keys(counts).filter((name) => counts[name] >= OFTEN && live.names.includes(name) && mine(name) && !top.includes(name))
      .sort((a, b) => counts[b] - counts[a]).slice(0, Math.max(0, TOP - top.length)),
  )
  const groups = $derived(live.role === 'watch' ? [] : live.groups.filter((group) => group.outputs.every((name) => live.only === null || live.only.includes(name))))
  const pads = (names: string[]) => live.pads.filter((pad) => names.includes(pad.outputs[0]))
  const on = (names: string[]) => names.filter((name) => live.outputs[name].confirmed?.on).length
</script>

<main id="content" tabindex="-1">
  <h1 class="sr">Now</h1>
  <Wrong />

  {#if top.length}
    <section aria-label="Kept at the top">
      <h2>Kept at the top</h2>
      <ul class="tiles">{#each top as name (name)}<Tile {name} {more} />{/each}</ul>
    </section>
  {/if}

  {#if most.length}
    <section aria-label="Used most">
      <h2>Used most here</h2>
      <ul class="tiles">{#each most as name (name)}<Tile {name} {more} />{/each}</ul>
    </section>
  {/if}

  {#if live.scenes.length || groups.length || live.names.length > 12 || live.only !== null}
    <div class="tools">
      {#if live.scenes.length && live.role !== 'watch'}
        <div class="scenes" role="group" aria-label="Scenes">
          {#each live.scenes as scene (scene)}<button type="button" class="btn preset-outlined-surface-500" disabled={live.lost} onclick={() => attempt(() => api.runScene(scene))}>{scene}</button>{/each}
        </div>
      {/if}
      {#if groups.length}<div class="scenes"><Groups {groups} /></div>{/if}
      {#if live.only !== null}<button type="button" class="btn preset-outlined-surface-500" aria-pressed={whole} onclick={() => (whole = !whole)}>{whole ? 'Only what I may command' : 'The whole site'}</button>{/if}
      {#if live.names.length > 12}<input class="input search" type="search" aria-label="Show only" placeholder="Show only …" bind:value={filter} />{/if}
    </div>
  {/if}

  <div class="places">
    {#each places as place (place)}
      {@const names = found.filter((each) => each.place === place).map((each) => each.name)}
      {@const its = filter ? [] : inputs.filter((each) => each.place === place && (whole || live.only === null || names.length)).map((each) => each.name)}
      <section class="place" aria-label={place}>
        <h2>
          <button type="button" class="fold" aria-expanded={!shut(place)} onclick={() => flip(folded, place)}>
            <ChevronDown size={18} aria-hidden="true" class={shut(place) ? 'shut' : ''} />
            <span>{place}</span>
            <span class="count">{names.length ? `${on(names)} of ${names.length} on` : ''}</span>
          </button>
        </h2>
        {#if !shut(place)}
          {#if names.length}<ul class="tiles">{#each names as name (name)}<Tile {name} {more} />{/each}</ul>{/if}
          {#if pads(names).length || its.length}
            <div class="beside">
              {#each pads(names) as pad (pad.name)}<PadField {pad} />{/each}
              {#if its.length}<div class="inputs"><Inputs names={its} label="Inputs in the {place}" /></div>{/if}
            </div>
          {/if}
        {/if}
      </section>
    {:else}
      {#if filter}<p class="empty">Nothing here is called like that. <button type="button" class="btn preset-outlined-surface-500" onclick={() => (filter = '')}>Show everything</button></p>
      {:else}<p class="empty">The site has no outputs and no inputs yet. Add <code>[output.…]</code> tables to its file and start the service anew; <a href="#help">Help</a> has the tables.</p>{/if}
    {/each}
  </div>
</main>

<style>
  h2 { font-size: 1rem; font-weight: 650; }
  section { margin-bottom: 1.1rem; }
  .tools { display: flex; flex-wrap: wrap; align-items: center; gap: 0.6rem; margin-bottom: 1.1rem; }
  .scenes { display: flex; flex-wrap: wrap; gap: 0.6rem; }
  .tools :global(.btn) { min-height: 2.75rem; }
  .search { width: min(16rem, 100%); min-height: 2.75rem; margin-left: auto; }
  .tiles { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(10.5rem, 46%), 1fr)); gap: 0.7rem; margin-top: 0.5rem; }
  .place { content-visibility: auto; contain-intrinsic-size: auto 12rem; }
  .fold { display: flex; align-items: center; gap: 0.4rem; width: 100%; min-height: 2.75rem; text-align: left; border-radius: var(--radius-base); }
  .fold :global(svg) { transition: rotate 120ms; color: var(--soft); }
  .fold :global(.shut) { rotate: -90deg; }
  .count { margin-left: 0.3rem; font-weight: 400; font-size: 0.85rem; color: var(--soft); }
  .beside { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(17rem, 100%), 1fr)); gap: 0.7rem; margin-top: 0.7rem; align-items: start; }
  .inputs { padding: 0.3rem 0.9rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); max-width: 44rem; }
  @media (max-width: 39.99rem) { .search { display: none; } }
  .empty { margin: 2rem 0; line-height: 1.6; color: var(--soft); }
  @media (prefers-reduced-motion: reduce) { .fold :global(svg) { transition: none; } }
  @media (min-width: 40rem) and (max-height: 35rem) { .tiles { grid-template-columns: repeat(auto-fill, minmax(9.5rem, 1fr)); gap: 0.5rem; } }
</style>
