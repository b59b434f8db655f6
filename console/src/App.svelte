<!-- The page 'Now': the site live. It shows GET /api/v1/events, which begins with the whole picture. -->
<script lang="ts">
  import { onMount } from 'svelte'
  import logo from './cairn.svg'
  import AllStop from './lib/AllStop.svelte'
  import BenchPage from './lib/BenchPage.svelte'
  import BoardsPage from './lib/BoardsPage.svelte'
  import { clock, dismiss, live, open, signOut } from './lib/live.svelte'
  import { apply, mode, toggle } from './lib/mode.svelte'
  import PhraseField from './lib/PhraseField.svelte'
  import PlaceCard from './lib/PlaceCard.svelte'
  import Watchful from './lib/Watchful.svelte'

  // The page is in the address, so that it can be kept and come back to: #now, or #boards/shelf.
  let address = $state(location.hash.slice(1))
  const pages = ['now', 'plan', 'records', 'rules', 'boards', 'signals', 'bench', 'remotes', 'keys', 'help']
  const page = $derived(pages.find((each) => address === each || address.startsWith(`${each}/`)) ?? 'now')
  const boardShown = $derived(address.startsWith('boards') ? decodeURIComponent(address.slice('boards/'.length)) : null)
  const down = $derived(Object.values(live.boards).filter((board) => !board.up))

  onMount(() => {
    addEventListener('hashchange', () => (address = location.hash.slice(1)))
    apply()
    void open()
  })

  // a key for some outputs sees those first; the whole site is one step away
  let whole = $state(false)
  const outputs = $derived(Object.values(live.outputs).filter((output) => whole || live.only === null || live.only.includes(output.name)))
  const inputs = $derived(Object.values(live.inputs).filter((input) => whole || live.only === null || outputs.some((output) => output.place === input.place)))
  const places = $derived([...new Set([...outputs, ...inputs].map((thing) => thing.place))])
  // Two columns of about the same length, by what is in the places and not by what is open in them:
  // so a card never moves to the other column while one looks.
  const columns = $derived.by(() => {
    const split: string[][] = [[], []]
    const length = [0, 0]
    for (const place of places) {
      const shorter = length[1] < length[0] ? 1 : 0
      split[shorter].push(place)
      length[shorter] += 2 + inputs.filter((each) => each.place === place).length
      length[shorter] += outputs.filter((each) => each.place === place).reduce((sum, each) => sum + (each.dimmable ? 3 : 2), 0)
    }
    return split.filter((column) => column.length)
  })
</script>

<svelte:head><title>{live.site ? `${live.site.name} – Cairnwind` : 'Cairnwind'}</title></svelte:head>

<div class="page" class:old={live.lost}>
  <header>
    <img src={logo} alt="" width="40" height="40" />
    <div class="title">
      <h1>{live.site?.name ?? 'Cairnwind'}</h1>
      <ul class="links" aria-label="Boards">
        {#each down as board (board.name)}
          <li data-board={board.name} class="down" title={board.reason}><a href="#boards/{board.name}">{board.label}: does not answer since {clock(board.since)}</a></li>
        {:else}
          <li>{Object.keys(live.boards).length === 1 ? 'The board answers' : `All ${Object.keys(live.boards).length} boards answer`}</li>
        {/each}
        {#if live.site?.clock}<li class="down">{live.site.clock}</li>{/if}
        {#if live.site && !live.site.recording}<li class="down">The journal cannot be written: {live.site.trouble}</li>{/if}
      </ul>
    </div>
    <span class="room"></span>
    {#if live.phase === 'live'}
      <nav aria-label="Pages">
        <a href="#now" aria-current={page === 'now' ? 'page' : undefined}>Now</a>
        <a href="#plan" aria-current={page === 'plan' ? 'page' : undefined}>Plan</a>
        <a href="#records" aria-current={page === 'records' ? 'page' : undefined}>Records</a>
        <a href="#rules" aria-current={page === 'rules' ? 'page' : undefined}>Rules</a>
        <a href="#signals" aria-current={page === 'signals' ? 'page' : undefined}>Signals</a>
        <a href="#boards/" aria-current={page === 'boards' ? 'page' : undefined}>Boards</a>
        <a href="#bench" aria-current={page === 'bench' ? 'page' : undefined}>Bench</a>
        <a href="#remotes" aria-current={page === 'remotes' ? 'page' : undefined}>Remotes</a>
        {#if live.keeps}<a href="#keys" aria-current={page === 'keys' ? 'page' : undefined}>Keys</a>{/if}
        <a href="#help" aria-current={page === 'help' ? 'page' : undefined}>Help</a>
      </nav>
      <AllStop />
      <button type="button" class="btn btn-sm preset-outlined-surface-300-700" onclick={signOut}>Sign out</button>
    {/if}
    <button type="button" class="btn btn-sm preset-outlined-surface-300-700" onclick={toggle}>{mode.dark ? 'Go light' : 'Go dark'}</button>
  </header>
  {#if live.phase === 'live'}<Watchful />{/if}

  {#if live.phase === 'signed out'}
    <main class="door">
      <h2>Not signed in</h2>
      <p>Open the sign-in link that the terminal printed when the service started. Each link signs in once, within 15 minutes. For a new one, type on the host:</p>
      <pre>cairnwind key link</pre>
    </main>
  {:else if live.phase === 'live' && boardShown !== null}
    <BoardsPage name={boardShown} />
  {:else if live.phase === 'live' && page === 'plan'}
    {#await import('./lib/PlanPage.svelte') then { default: PlanPage }}<PlanPage />{/await}
  {:else if live.phase === 'live' && page === 'records'}
    {#await import('./lib/RecordsPage.svelte') then { default: RecordsPage }}<RecordsPage />{/await}
  {:else if live.phase === 'live' && page === 'rules'}
    {#await import('./lib/RulesPage.svelte') then { default: RulesPage }}<RulesPage />{/await}
  {:else if live.phase === 'live' && page === 'signals'}
    {#await import('./lib/SignalsPage.svelte') then { default: SignalsPage }}<SignalsPage />{/await}
  {:else if live.phase === 'live' && page === 'remotes'}
    {#await import('./lib/RemotesPage.svelte') then { default: RemotesPage }}<RemotesPage />{/await}
  {:else if live.phase === 'live' && page === 'keys'}
    {#await import('./lib/KeysPage.svelte') then { default: KeysPage }}<KeysPage />{/await}
  {:else if live.phase === 'live' && page === 'help'}
    {#await import('./lib/HelpPage.svelte') then { default: HelpPage }}<HelpPage />{/await}
  {:else if live.phase === 'live' && page === 'bench'}
    <BenchPage />
  {:else if live.phase === 'live'}
    <PhraseField />
    {#if live.only !== null}<button type="button" class="btn btn-sm preset-outlined-surface-500 whole" aria-pressed={whole} onclick={() => (whole = !whole)}>{whole ? 'Only what I may command' : 'The whole site'}</button>{/if}
    <main class="places">
      {#each columns as column, number (number)}
        <div>
          {#each column as place (place)}
            <PlaceCard place={place || 'elsewhere'} outputs={outputs.filter((each) => each.place === place)} inputs={inputs.filter((each) => each.place === place)} />
          {/each}
        </div>
      {:else}
        <p>The site has no outputs and no inputs yet. Add <code>[output.…]</code> tables to its file and start the service anew.</p>
      {/each}
    </main>
  {/if}
</div>

<div class="notes" aria-live="assertive">
  {#if live.lost}
    <p class="lost" role="alert"><strong>The link to the service is lost.</strong> What is shown may be old. It comes back by itself.</p>
  {/if}
  {#each live.notes as note (note.id)}
    <p>
      <span><strong>{note.sentence}</strong> {note.remedy}</span>
      <button type="button" class="btn btn-sm preset-outlined-surface-300-700" onclick={() => dismiss(note.id)}>Close</button>
    </p>
  {/each}
</div>

<style>
  .page { max-width: 78rem; margin: 0 auto; padding: 1rem 1.2rem 5rem; }
  .old main { opacity: 0.6; filter: grayscale(0.7); }
  header { display: flex; flex-wrap: wrap; align-items: center; gap: 0.6rem 0.8rem; margin-bottom: 1.1rem; }
  .room { flex: 1; }
  nav { display: flex; flex-wrap: wrap; gap: 0.3rem; }
  nav a { padding: 0.3rem 0.55rem; border-bottom: 3px solid transparent; font-weight: 600; }
  @media (max-width: 30rem) { nav a { padding-inline: 0.35rem; font-size: 0.92rem; white-space: nowrap; } }
  nav a[aria-current] { border-color: var(--on); }
  h1 { font-size: 1.35rem; line-height: 1.2; }
  .links { font-size: 0.8rem; color: var(--well); }
  .links .down { color: var(--ill); font-weight: 600; }
  .places { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(100%, 26rem), 1fr)); column-gap: 1rem; align-items: start; }
  .whole { margin-bottom: 0.8rem; }
  .door { max-width: 34rem; margin: 4rem auto; line-height: 1.6; }
  .door h2 { font-size: 1.2rem; margin-bottom: 0.5rem; }
  .door pre { margin-top: 0.7rem; padding: 0.6rem 0.9rem; background: var(--stone); border: 1px solid var(--line); }
  .notes { position: fixed; inset: auto 0 0; display: flex; flex-direction: column; align-items: center; gap: 0.5rem; padding: 0.8rem; pointer-events: none; }
  .notes p { pointer-events: auto; display: flex; gap: 0.9rem; align-items: center; max-width: 46rem; padding: 0.7rem 1rem; background: var(--stone); border: 1px solid var(--wary); border-left-width: 5px; box-shadow: 0 6px 24px rgb(0 0 0 / 0.25); }
  .notes .lost { border-color: var(--ill); display: block; }
</style>
