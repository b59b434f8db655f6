<!-- The frame: five places, the field, all-stop where it always is, and whether what is shown is true. -->
<script lang="ts">
  import { onMount, tick } from 'svelte'
  import BookOpenText from '@lucide/svelte/icons/book-open-text'
  import CalendarDays from '@lucide/svelte/icons/calendar-days'
  import CircleHelp from '@lucide/svelte/icons/circle-question-mark'
  import CircuitBoard from '@lucide/svelte/icons/circuit-board'
  import LogOut from '@lucide/svelte/icons/log-out'
  import Moon from '@lucide/svelte/icons/moon'
  import Sun from '@lucide/svelte/icons/sun'
  import Wrench from '@lucide/svelte/icons/wrench'
  import logo from './cairn.svg'
  import About from './parts/About.svelte'
  import Find from './parts/Find.svelte'
  import Stones from './parts/Stones.svelte'
  import Wrong from './parts/Wrong.svelte'
  import NowPage from './pages/NowPage.svelte'
  import * as api from './state/api'
  import { attempt, clock, dismiss, live, open, signOut } from './state/live.svelte'
  import { link } from './state/link.svelte'
  import { panel } from './state/panel.svelte'
  import { apply, mode, toggle } from './state/mode.svelte'
  import { PLACES, lay, place, takeOff, where } from './state/place.svelte'

  const ICONS: Record<string, typeof Wrench> = { plan: CalendarDays, journal: BookOpenText, site: CircuitBoard, bench: Wrench }
  const here = $derived(where())
  const leaves = $derived(PLACES.find((each) => each.at === here.at)?.leaves.filter((leaf) => !leaf.keeps || live.keeps) ?? [])
  const title = $derived([live.outputs[place.about]?.label, here.leaf?.name, here.leaf ? undefined : here.name, live.site?.name, 'Cairnwind'].filter(Boolean).join(' – '))
  const wrong = $derived(
    (live.site?.trips.length ?? 0) + (live.site?.alarms.filter((alarm) => !alarm.acknowledged_by).length ?? 0) + Object.values(live.boards).filter((board) => !board.up).length,
  )
  let from: HTMLElement | null = null

  function more(name: string): void {
    from = document.activeElement as HTMLElement | null
    lay(name)
  }
  $effect(() => {
    if (!place.about && from) void tick().then(() => { from?.focus(); from = null })
  })

  $effect(() => {
    if (live.site) panel.at(live.site.timezone)
    if (panel.dim) takeOff()
  })

  // where nothing answers for a while, that is said
  let slow = $state(false)
  setTimeout(() => (slow = true), 3000)

  onMount(() => {
    apply()
    void open()
    // what is not needed for the first picture is fetched once that is there
    setTimeout(() => void import('./parts/Sheet.svelte').catch(() => undefined), 1500)
  })

  // a new page is read from its beginning
  let before = ''
  $effect(() => {
    const at = `${here.at}/${here.leaf?.at ?? ''}`
    if (before && before !== at) {
      scrollTo(0, 0)
      void tick().then(() => document.getElementById('content')?.focus({ preventScroll: true }))
    }
    before = at
  })
</script>

<svelte:head><title>{title}</title></svelte:head>

{#snippet places()}
  {#each panel.locked ? PLACES.slice(0, 1) : PLACES as each (each.at)}
    {@const Icon = ICONS[each.at]}
    <a href="#{each.at}" aria-current={here.at === each.at ? 'page' : undefined}>
      {#if Icon}<Icon size={22} aria-hidden="true" />{:else}<Stones size={22} />{/if}
      <span>{each.name}</span>
      {#if each.at === 'now' && wrong}<b class="badge">{wrong}<span class="sr"> to be seen to</span></b>{/if}
    </a>
  {/each}
{/snippet}

{#snippet mine()}
  <p class="key"><span>{live.key}</span><small>{live.role === 'keep' ? 'may do everything' : live.role === 'operate' ? (live.only ? `may operate ${live.only.length} outputs` : 'may operate') : 'may only watch'}</small></p>
  <div class="small">
    {#if panel.locked}{#await import('./parts/Leave.svelte') then { default: Leave }}<Leave />{/await}{:else}
    <a href="#help" aria-label="Help" aria-current={here.at === 'help' ? 'page' : undefined}><CircleHelp size={20} aria-hidden="true" /></a>
    <button type="button" onclick={toggle} aria-label={mode.dark ? 'Go light' : 'Go dark'}>{#if mode.dark}<Sun size={20} aria-hidden="true" />{:else}<Moon size={20} aria-hidden="true" />{/if}</button>
    <button type="button" onclick={signOut} aria-label="Sign out"><LogOut size={20} aria-hidden="true" /></button>
    {/if}
  </div>
{/snippet}

{#snippet stop()}
  <button type="button" class="stop" class:stopped={live.site?.all_stop.stopped} onclick={() => attempt(api.stop)}>
    {live.site?.all_stop.stopped ? 'All stopped' : 'Stop all'}
  </button>
{/snippet}

{#if live.phase === 'signed out'}
  <main class="door" id="content">
    <img src={logo} alt="" width="56" height="56" />
    <h1>Not signed in</h1>
    <p>Open the sign-in link that the terminal printed when the service started. Each link signs in once, within 15 minutes. For a new one, type on the host:</p>
    <pre>cairnwind key link</pre>
  </main>
{:else if live.phase === 'opening' && slow}
  <main class="door" id="content">
    <img src={logo} alt="" width="56" height="56" />
    <h1>The service does not answer</h1>
    <p role="status">Nothing is shown, since nothing is known. It is tried again all the time; this page goes on by itself.</p>
  </main>
{:else if live.phase === 'live'}
  <a class="skip" href="#content" onclick={(event) => { event.preventDefault(); document.getElementById('content')?.focus() }}>To the page</a>
  <div class="frame" class:old={live.lost} class:dim={panel.dim} class:night={panel.dim && panel.night}>
    <header class="rail">
      <a class="name" href="#now"><img src={logo} alt="" width="34" height="34" /><span>{live.site?.name ?? 'Cairnwind'}</span></a>
      <nav aria-label="Places">
        {@render places()}
      </nav>
      <div class="foot">
        {@render mine()}
        {@render stop()}
      </div>
    </header>

    <div class="rest">
      {#if panel.dim}<button type="button" class="sleep" aria-label="Wake the panel" onclick={panel.touched}></button>{/if}
      <header class="strip">
        <a class="name" href="#now"><img src={logo} alt="" width="30" height="30" /><span>{here.leaf?.name ?? here.name}</span></a>
        {#if !panel.locked}<Find {more} />{/if}
        <p class="link">
          {#if live.lost}<span class="lost"><strong>Old since {clock(link.since)}.</strong> <span class="wide">The link is lost; it comes back by itself.</span></span>
          {:else}<span class="good"><i aria-hidden="true"></i><span>live</span><span class="wide">, times in {live.site?.timezone}</span></span>{/if}
        </p>
        <span class="phone">{@render stop()}</span>
      </header>
      {#if leaves.length > 1}
        <nav class="leaves" aria-label="Pages of {here.name}">
          {#each leaves as leaf (leaf.at)}<a href="#{here.at}/{leaf.at}" aria-current={here.leaf?.at === leaf.at ? 'page' : undefined}>{leaf.name}</a>{/each}
        </nav>
      {/if}
      {#if live.lost}<p class="sr" role="alert">The link to the service is lost. What is shown is old since {clock(link.since)}.</p>{/if}

      <div class="page" inert={live.lost && here.at !== 'now' ? true : undefined}>
        {#if here.at === 'now'}<NowPage {more} />
        {:else}
          <h1 class="sr">{here.leaf?.name ?? here.name}</h1>
          <Wrong all={false} />
          {#if here.at === 'plan'}{#await import('./pages/PlanPage.svelte') then { default: Page }}<Page />{/await}
          {:else if here.leaf?.at === 'rows'}{#await import('./pages/JournalPage.svelte') then { default: Page }}<Page subject={here.rest[0] ?? ''} />{/await}
          {:else if here.leaf?.at === 'records'}{#await import('./pages/RecordsPage.svelte') then { default: Page }}<Page />{/await}
          {:else if here.at === 'help'}{#await import('./pages/HelpPage.svelte') then { default: Page }}<Page />{/await}
          {:else if here.leaf?.at === 'boards'}{#await import('./pages/BoardsPage.svelte') then { default: Page }}<Page name={here.rest[0] ?? ''} {more} />{/await}
          {:else if here.leaf?.at === 'rules'}{#await import('./pages/RulesPage.svelte') then { default: Page }}<Page />{/await}
          {:else if here.leaf?.at === 'wiring'}{#await import('./pages/WiringPage.svelte') then { default: Page }}<Page name={here.rest[0] ?? ''} />{/await}
          {:else if here.leaf?.at === 'remotes'}{#await import('./pages/RemotesPage.svelte') then { default: Page }}<Page />{/await}
          {:else if here.leaf?.at === 'sites'}{#await import('./pages/SitesPage.svelte') then { default: Page }}<Page />{/await}
          {:else if here.leaf?.at === 'keys'}{#await import('./pages/KeysPage.svelte') then { default: Page }}<Page />{/await}
          {:else if here.leaf?.at === 'file'}{#await import('./pages/FilePage.svelte') then { default: Page }}<Page />{/await}
          {:else if here.leaf?.at === 'changes'}{#await import('./pages/DraftPage.svelte') then { default: Page }}<Page what={here.rest[0] ?? ''} name={here.rest[1] ?? ''} />{/await}
          {:else if here.leaf?.at === 'walk'}{#await import('./pages/WalkPage.svelte') then { default: Page }}<Page name={here.rest[0] ?? ''} />{/await}
          {:else if here.leaf?.at === 'signals'}{#await import('./pages/SignalsPage.svelte') then { default: Page }}<Page />{/await}
          {:else if here.leaf?.at === 'sums'}{#await import('./pages/SumsPage.svelte') then { default: Page }}<Page />{/await}
          {:else if here.leaf?.at === 'light'}{#await import('./pages/BenchPage.svelte') then { default: Page }}<Page />{/await}{/if}
        {/if}
        {#if !panel.locked}{#key `${here.at}/${here.leaf?.at}`}<About at={here.leaf ? `${here.at}/${here.leaf.at}` : here.at} />{/key}{/if}
      </div>
    </div>

    <footer class="device">{@render mine()}</footer>
    <nav class="bar" aria-label="Places, at the foot">
      {@render places()}
    </nav>
  </div>
  {#key place.about}{#if place.about}{#await import('./parts/Sheet.svelte') then { default: Sheet }}<Sheet name={place.about} close={takeOff} />{/await}{/if}{/key}
{/if}

<div class="notes" aria-live="polite">
  {#each live.notes as each (each.id)}
    <p>
      <span><strong>{each.sentence}</strong> {each.remedy}</span>
      {#if each.undo}<button type="button" class="btn preset-outlined-surface-500" onclick={() => { const back = each.undo!; dismiss(each.id); void attempt(back) }}>Undo</button>{/if}
      <button type="button" class="btn preset-tonal-surface" onclick={() => dismiss(each.id)}>Close</button>
    </p>
  {/each}
</div>

<style>
  .frame { display: grid; grid-template-columns: 13.5rem minmax(0, 1fr); min-height: 100dvh; }
  .rail { position: sticky; top: 0; height: 100dvh; display: flex; flex-direction: column; gap: 0.9rem; padding: 0.9rem 0.8rem; background: var(--slate); color: var(--slate-ink); overflow: hidden auto; z-index: 60; }
  .name { display: flex; align-items: center; gap: 0.6rem; font-weight: 700; line-height: 1.2; min-height: 2.75rem; min-width: 0; }
  .name span { overflow: hidden; display: -webkit-box; -webkit-line-clamp: 2; line-clamp: 2; -webkit-box-orient: vertical; overflow-wrap: anywhere; }
  .name img { flex: none; border-radius: 0.4rem; background: var(--color-surface-50); padding: 2px; }
  nav { display: flex; flex-direction: column; gap: 0.15rem; }
  .rail nav a, .bar a { position: relative; display: flex; align-items: center; gap: 0.75rem; min-height: 3rem; padding: 0 0.7rem; border-radius: var(--radius-base); font-weight: 600; }
  .rail nav a:hover { background: rgb(255 255 255 / 0.08); }
  .rail nav a[aria-current] { background: rgb(255 255 255 / 0.14); box-shadow: inset 4px 0 0 var(--color-primary-400); }
  .badge { margin-left: auto; min-width: 1.5rem; padding: 0 0.4rem; text-align: center; border-radius: 0.8rem; font-size: 0.8rem; line-height: 1.5rem; color: #fff; background: var(--stop); }
  .foot { margin-top: auto; display: flex; flex-direction: column; gap: 0.6rem; }
  .key { display: flex; flex-direction: column; padding: 0 0.3rem; line-height: 1.3; overflow-wrap: anywhere; }
  .key small { opacity: 0.8; }
  .small { display: flex; gap: 0.2rem; }
  .small > * { width: 2.75rem; height: 2.75rem; display: grid; place-items: center; border-radius: var(--radius-base); }
  .small > *:hover { background: rgb(255 255 255 / 0.1); }
  .stop { width: 100%; min-height: 4rem; padding: 0 0.8rem; font-size: 1.1rem; font-weight: 800; color: #fff; background: var(--stop); border: 2px solid rgb(255 255 255 / 0.75); border-radius: var(--radius-base); touch-action: manipulation; }
  .stop.stopped { background: repeating-linear-gradient(135deg, var(--stop) 0 12px, var(--stop-deep) 12px 24px); }
  .rest { min-width: 0; display: flex; flex-direction: column; }
  .strip { position: sticky; top: 0; z-index: 42; display: flex; align-items: center; gap: 0.8rem; min-height: 3.9rem; padding: 0.5rem 1.4rem; background: var(--ground); border-bottom: 1px solid var(--line); }
  .strip .name, .phone, .bar, .device { display: none; }
  .strip :global(.opens) { width: min(26rem, 100%); }
  .link { margin-left: auto; font-size: 0.85rem; color: var(--soft); white-space: nowrap; }
  .good { display: inline-flex; align-items: center; }
  .good i { width: 0.6rem; height: 0.6rem; margin-right: 0.45rem; border-radius: 50%; background: var(--well); }
  .lost { color: var(--ill); }
  .leaves { flex-direction: row; flex-wrap: wrap; gap: 0.2rem 0.4rem; padding: 0.6rem 1.4rem 0; }
  .leaves a { display: flex; align-items: center; min-height: 2.75rem; padding: 0 0.8rem; font-weight: 600; border-bottom: 3px solid transparent; }
  .leaves a[aria-current] { border-color: var(--on); }
  .page { padding: 1.1rem 1.4rem 5rem; width: 100%; max-width: 92rem; }
  .old .page { filter: grayscale(1); opacity: 0.72; }
  /* a panel that nobody touches: the first touch wakes it and does no more; all-stop is above that and stops at once */
  .frame { transition: filter 800ms; }
  .dim { filter: brightness(0.5); background: var(--ground); }
  .night { filter: brightness(0.2); }
  .sleep { position: absolute; inset: 0; z-index: 41; cursor: pointer; }
  .rest { position: relative; }
  .door { max-width: 34rem; margin: 12vh auto; padding: 0 1.2rem; line-height: 1.6; }
  .door h1 { font-size: 1.4rem; font-weight: 700; margin: 0.8rem 0 0.4rem; }
  .door pre { margin-top: 0.7rem; padding: 0.6rem 0.9rem; background: var(--stone); border: 1px solid var(--line); overflow: auto; }
  .skip { position: fixed; left: 0.6rem; top: -4rem; z-index: 60; padding: 0.7rem 1rem; background: var(--stone); color: var(--ink); border: 2px solid var(--on); border-radius: var(--radius-base); }
  .skip:focus { top: 0.6rem; }
  .notes { position: fixed; inset: auto 0 0; z-index: 45; display: flex; flex-direction: column; align-items: center; gap: 0.5rem; padding: 0.8rem; pointer-events: none; }
  .notes p { pointer-events: auto; display: flex; flex-wrap: wrap; gap: 0.5rem 0.9rem; align-items: center; max-width: 46rem; padding: 0.6rem 0.8rem 0.6rem 1rem; background: var(--stone); color: var(--ink); border: 1px solid var(--edge); border-left: 5px solid var(--wary); border-radius: var(--radius-base); box-shadow: 0 6px 24px rgb(0 0 0 / 0.25); }
  .notes span { flex: 1 1 12rem; overflow-wrap: anywhere; }
  .notes .btn { min-height: 2.75rem; }

  /* a panel on the wall: wide and low */
  @media (min-width: 40rem) and (max-height: 35rem), (min-width: 40rem) and (max-width: 60rem) {
    .frame { grid-template-columns: 6.6rem minmax(0, 1fr); }
    .rail { padding: 0.4rem; gap: 0.2rem; }
    .rail .name, .key { display: none; }
    .rail nav { gap: 0; }
    .rail nav a { flex-direction: column; justify-content: center; gap: 0.1rem; min-height: 3.4rem; padding: 0.2rem; font-size: 0.85rem; }
    .rail nav a[aria-current] { box-shadow: inset 4px 0 0 var(--color-primary-400); }
    .badge { position: absolute; top: 0.15rem; right: 0.6rem; }
    .small { justify-content: center; gap: 0; }
    .small > * { width: 1.95rem; }
    .small > :only-child { width: 100%; }
    .stop { padding: 0 0.2rem; }
    .strip { padding: 0.3rem 0.9rem; min-height: 3.4rem; }
    .page { padding: 0.7rem 0.9rem 3rem; }
  }

  /* a phone: the places at the foot, all-stop at the top right */
  @media (max-width: 39.99rem) {
    .frame { display: block; padding-bottom: 4.2rem; }
    .rail { display: none; }
    .strip { flex-wrap: wrap; gap: 0.5rem; padding: 0.4rem 0.7rem; }
    .strip .name { display: flex; font-size: 1.1rem; flex: 1 1 0; }
    .strip .name span { -webkit-line-clamp: 1; line-clamp: 1; }
    .strip :global(.opens) { width: 2.9rem; flex: none; }
    .phone { display: block; flex: none; width: 6.2rem; max-width: 100%; }
    .phone .stop { min-height: 3rem; padding: 0 0.3rem; font-size: 1rem; }
    .link { white-space: normal; line-height: 1.2; }
    .wide { display: none; }
    .leaves { display: grid; grid-template-columns: repeat(auto-fit, minmax(5.2rem, 1fr)); padding: 0.4rem 0.7rem 0; }
    .leaves a { justify-content: center; padding: 0 0.2rem; text-align: center; line-height: 1.1; }
    .device { display: flex; justify-content: space-between; align-items: center; gap: 0.8rem; margin: 0 0.7rem 1rem; padding-top: 0.8rem; border-top: 1px solid var(--line); }
    .page { padding: 0.8rem 0.7rem 2rem; }
    .bar { position: fixed; inset: auto 0 0; z-index: 39; display: flex; flex-direction: row; justify-content: space-around; gap: 0; padding: 0.2rem 0.2rem calc(0.2rem + env(safe-area-inset-bottom)); background: var(--slate); color: var(--slate-ink); }
    .bar a { flex: 1; flex-direction: column; justify-content: center; gap: 0.1rem; min-height: 3.6rem; padding: 0; font-size: 0.8rem; }
    .bar a[aria-current] { background: rgb(255 255 255 / 0.14); box-shadow: inset 0 3px 0 var(--color-primary-400); }
    .bar .badge { position: absolute; top: 0.15rem; right: 18%; }
    .notes { bottom: 4rem; }
  }
  @media (forced-colors: active) { .stop { border: 3px solid; } }
</style>
