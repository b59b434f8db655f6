<!-- The page 'Keys': who may what, until when; a phone paired; browsers signed out. It shows GET /api/v1/keys and
     /api/v1/sessions. A new key's text is shown once. -->
<script lang="ts">
  import * as api from '../state/api'
  import { week } from '../state/say'
  import { attempt, day, live } from '../state/live.svelte'
  import QrCode from '../parts/QrCode.svelte'
  import type { Key, Pairing, Session } from '../state/types'

  let keys = $state<Key[]>([])
  let sessions = $state<Session[]>([])
  let name = $state('')
  let role = $state('operate')
  let only = $state('')
  let until = $state('')
  let from = $state('')
  let days = $state<string[]>([])
  let to = $state('')
  let made = $state<{ name: string; key: string }>()
  let pairing = $state<Pairing & { name: string }>()
  let doomed = $state('')

  const read = () => attempt(async () => ([keys, sessions] = await Promise.all([api.keys(), api.sessions()])))
  void read()

  // while a code is shown, look whether it has been used: then there is one browser more
  $effect(() => {
    if (!pairing) return
    const timer = setInterval(async () => {
      await read()
      if (keys.some((key) => key.name === pairing?.name) || new Date(pairing!.ends) < new Date()) pairing = undefined
    }, 2000)
    return () => clearInterval(timer)
  })

  function asked(): Record<string, unknown> {
    const names = only.split(/[\s,]+/).filter(Boolean)
    return { name: name.trim(), role, ...(names.length ? { only: names } : {}), ...(until ? { until } : {}), ...(days.length && days.length < 7 ? { days: days.map((each) => each.toLowerCase()) } : {}), ...(from ? { from } : {}), ...(to ? { to } : {}) }
  }

  async function make(event: SubmitEvent) {
    event.preventDefault()
    const pair = (event.submitter as HTMLButtonElement).value === 'pair'
    made = pairing = undefined
    const done = await attempt(async () => {
      if (pair) pairing = { ...(await api.pair(asked())), name: name.trim() }
      else made = await api.newKey(asked())
    })
    if (done) [name, only, until, from, to, days] = ['', '', '', '', '', []]
    await read()
  }

  let link = $state('')
  const anotherDevice = () => attempt(async () => (link = (await api.signInLink()).link))

  async function revoke(each: string) {
    if (doomed !== each) return void (doomed = each)
    doomed = ''
    await attempt(() => api.revoke(each))
    await read()
  }

  const WEEK = week()
  const good = (key: Key) =>
    [WEEK.filter(({ code }) => key.days.includes(code.toLowerCase())).map(({ name }) => name).join(' '), key.from || key.to ? `${key.from ?? '00:00'} to ${key.to ?? '24:00'}` : '', key.until ? `until ${day(key.until)}` : ''].filter(Boolean).join(', ')
</script>

<main id="content" tabindex="-1">
  <section aria-label="A new key">
    <h2>A new key</h2>
    <form onsubmit={make}>
      <label><span>Whose</span><input class="input" bind:value={name} required maxlength="60" placeholder="hall tablet" /></label>
      <label><span>May</span><select class="select" bind:value={role}><option value="watch">watch</option><option value="operate">operate</option><option value="keep">keep</option></select></label>
      <label class="wide"><span>These outputs, groups or kinds only</span><input class="input" bind:value={only} placeholder="everything" list="names" spellcheck="false" /></label>
      <label><span>From</span><input class="input" type="time" bind:value={from} /></label>
      <label><span>To</span><input class="input" type="time" bind:value={to} /></label>
      <label><span>Ends on</span><input class="input" type="date" bind:value={until} /></label>
      <fieldset class="which"><legend>Only on</legend>{#each WEEK as { code, name } (code)}<label><input type="checkbox" class="checkbox" bind:group={days} value={code} /> {name}</label>{/each}</fieldset>
      <datalist id="names">{#each Object.keys(live.outputs) as each (each)}<option value={each}></option>{/each}</datalist>
      <div class="buttons">
        <button type="submit" value="pair" class="btn preset-filled-primary-500" disabled={!name.trim()}>Pair a phone</button>
        <button type="submit" value="key" class="btn preset-outlined-surface-500" disabled={!name.trim()}>Make a key</button>
      </div>
    </form>
    {#if made}
      <p role="status" class="made">The key of <strong>{made.name}</strong>, shown this once: <code>{made.key}</code></p>
    {/if}
    {#if pairing}
      <div class="pairing" role="status">
        <QrCode rows={pairing.rows} label="QR code of the pairing link" />
        <div>
          <p>Photograph this with the phone of <strong>{pairing.name}</strong>, within five minutes. It works once.</p>
          <p class="quiet">{pairing.link.split('#')[0]}</p>
          {#if /127\.0\.0\.1|localhost/.test(pairing.link)}<p class="wary">This service listens on its own host only, so a phone does not reach it. Say where it is to listen: <code>[service] listen</code> and <code>tls</code>.</p>{/if}
          <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => (pairing = undefined)}>Done</button>
        </div>
      </div>
    {/if}
  </section>

  <section aria-label="Keys">
    <h2>Keys</h2>
    <ul>
      {#each keys as key (key.name)}
        <li data-key={key.name}>
          <span class="name">{key.name}</span>
          <span class="role">{key.role}</span>
          <span class="what">{key.only.join(', ') || (key.role === 'watch' ? 'looks only' : 'everything')}{good(key) ? `; ${good(key)}` : ''}</span>
          <span class="quiet">{key.used ? `used ${day(key.used)} from ${key.used_from}` : 'never used'}</span>
          <button type="button" class="btn btn-sm {doomed === key.name ? 'preset-filled-error-500' : 'preset-outlined-surface-500'}" onclick={() => revoke(key.name)} onblur={() => (doomed = '')} aria-label="Revoke {key.name}">
            {doomed === key.name ? 'Revoke now' : 'Revoke'}
          </button>
        </li>
      {/each}
    </ul>
  </section>

  <section aria-label="Browsers that are signed in">
    <h2>Browsers that are signed in</h2>
    <p class="other"><button type="button" class="btn preset-outlined-surface-500" onclick={anotherDevice}>A link for another device</button>
      {#if link}<span role="status">Signs in once with the key of <strong>{live.key}</strong>, within 15 minutes: <code>{link}</code></span>{/if}</p>
    <ul>
      {#each sessions as session (session.id)}
        <li data-session={session.id}>
          <span class="name">{session.device}</span>
          <span class="role">{session.this ? 'this one' : ''}</span>
          <span class="what">by the key of {session.key}</span>
          <span class="quiet">since {day(session.made)}, used {day(session.used)}</span>
          <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={async () => { await attempt(() => api.endSession(session.id)); await read() }} aria-label="Sign out {session.device} of {session.key}">Sign out</button>
        </li>
      {:else}
        <li>None.</li>
      {/each}
    </ul>
  </section>
</main>

<style>
  section { margin-bottom: 1.2rem; padding: 0.9rem 1.1rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  h2 { font-size: 1.05rem; font-weight: 700; margin-bottom: 0.5rem; }
  form { display: flex; flex-wrap: wrap; gap: 0.5rem 0.8rem; align-items: end; }
  form span { display: block; font-size: 0.8rem; color: var(--quiet); margin-bottom: 0.15rem; }
  .input, .select { height: 2.75rem; }
  .wide { flex: 1 1 14rem; }
  .which { display: flex; flex-wrap: wrap; gap: 0.2rem 0.7rem; }
  .which legend { font-size: 0.8rem; color: var(--soft); }
  .which label { display: flex; gap: 0.35rem; align-items: center; min-height: 2.75rem; }
  .other { margin-bottom: 0.6rem; line-height: 1.6; overflow-wrap: anywhere; }
  .btn { min-height: 2.75rem; }
  .buttons { display: flex; gap: 0.5rem; }
  .made { margin-top: 0.8rem; overflow-wrap: anywhere; }
  .pairing { display: flex; flex-wrap: wrap; gap: 1.2rem; margin-top: 1rem; align-items: center; }
  .pairing p { max-width: 24rem; margin-bottom: 0.4rem; }
  .quiet { color: var(--quiet); font-size: 0.82rem; }
  .wary { color: var(--wary); }
  li { display: grid; grid-template-columns: minmax(8rem, 14rem) 5rem 1fr minmax(9rem, auto) 6.5rem; gap: 0.1rem 1rem; align-items: center; padding: 0.4rem 0; border-top: 1px solid var(--line); }
  .name { font-weight: 600; }
  .role { color: var(--well); }
  @media (max-width: 46rem) { li { grid-template-columns: 1fr auto; } .what, .quiet { grid-column: 1 / -1; } }
</style>
