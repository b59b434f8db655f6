<!-- The page 'Rules': what must never be and what follows from what, part by part as it stands, and a line for questions.
     It shows GET /api/v1/rules and POST /api/v1/questions. -->
<script lang="ts">
  import * as api from '../state/api'
  import { again } from '../state/again'
  import { clock, live } from '../state/live.svelte'
  import { serviceTime } from '../state/link.svelte'
  import type { Answer, Rule } from '../state/types'

  const EVERY = 1000
  const OTHERS: [string, string[]][] = [
    ['Opens with a passcode', ['guard']],
    ['Follows by itself', ['reflex', 'regulator']],
    ['Somebody is told', ['alarm']],
  ]
  let rules = $state<Rule[]>([])
  let now = $state(serviceTime())
  // whatever is none of those is an interlock, of which kind it may be
  const heads = $derived<[string, Rule[]][]>([
    ['Must never be', rules.filter((rule) => !OTHERS.some(([, kinds]) => kinds.includes(rule.kind)))],
    ...OTHERS.map(([head, kinds]): [string, Rule[]] => [head, rules.filter((rule) => kinds.includes(rule.kind))]),
  ])
  let question = $state('')
  let answer = $state<Answer>()
  let trouble = $state('')

  const label = (name: string) => live.outputs[name]?.label || name
  const left = (until: string) => `${Math.max(0, Math.round((Date.parse(until) - now) / 1000))} s`

  $effect(() => again(EVERY, api.rules, (found) => ([rules, now] = [found, serviceTime()])))

  async function ask(event: Event) {
    event.preventDefault()
    answer = undefined
    try {
      answer = await api.ask(question)
      trouble = ''
    } catch (error) {
      trouble = api.said(error)
    }
  }
</script>

<main id="content" tabindex="-1">
  <form class="ask" onsubmit={ask}>
    <label>
      <span>Ask what is so</span>
      <input class="input" bind:value={question} placeholder="kiln-vent is on for 30 s and kiln-door is closed" spellcheck="false" />
    </label>
    <button type="submit" class="btn preset-filled-primary-500" disabled={!question.trim()}>Ask</button>
    <p role="status" class:ill={trouble}>
      {#if trouble}{trouble}{:else if answer}<strong>{answer.so === null ? 'Not known' : answer.so ? 'Yes' : 'No'}</strong>: {answer.so ? answer.question : answer.instead.join(' and ')}{/if}
    </p>
  </form>
  {#each heads as [head, some] (head)}
    {#if some.length}
      <section>
        <h2>{head}</h2>
        <ul>
          {#each some as rule (rule.kind + rule.name)}
            <li data-rule={rule.name}>
              <div class="what">
                <span class="name">{rule.name}</span>
                <span class="kind">{rule.kind}</span>
                {#if rule.state !== 'in force' && rule.state !== 'quiet'}<span class="state">{rule.state}</span>{/if}
                {#if live.keeps && !rule.name.startsWith('supply ')}<a class="change" href="#site/changes/{['reflex', 'regulator', 'alarm', 'guard'].includes(rule.kind) ? rule.kind : 'interlock'}/{encodeURIComponent(rule.name)}" aria-label="Change {rule.name}">Change …</a>{/if}
              </div>
              <div class="how">
                <p>{rule.text}</p>
                {#if rule.parts.length}
                  <ul class="parts" aria-label="How it stands">
                    {#each rule.parts as part, number (number)}
                      <li style:--depth={part.depth}>
                        <span class="so" class:yes={part.so} class:no={part.so === false}>{part.so === null ? 'not known' : part.so ? 'so' : 'not so'}</span>
                        <span>{part.text}{#if part.instead && part.instead !== part.text}<small>{part.instead}{part.expected ? `: in ${left(part.expected)}` : ''}</small>{/if}</span>
                      </li>
                    {/each}
                  </ul>
                {/if}
                {#if rule.left}<p class="left" class:ill={rule.state === 'used up'}>{rule.left.text}</p>{/if}
                {#if rule.grace_ends}<p class="ill">A grace runs until {clock(rule.grace_ends)}: {left(rule.grace_ends)} left.</p>{/if}
                {#each rule.boards as held (held.board)}
                  <p class:ill={!held.in_force}>{held.in_force ? `Kept here, and by board ${held.board} itself` + (held.outputs.length < rule.outputs.length ? `, for ${held.outputs.map(label).join(', ')}` : '') + '.' : `Kept here alone, not by board ${held.board}: ${held.why_not}.`}</p>
                {/each}
                {#if rule.holds_back.length}<p class="ill">It keeps off now: {rule.holds_back.map(label).join(', ')}.</p>{/if}
              </div>
            </li>
          {/each}
        </ul>
      </section>
    {/if}
  {/each}
  {#if !rules.length}<p>The site has no rules yet. {#if live.keeps}<a href="#site/changes/interlock">Add an interlock</a>, or write <code>[[interlock]]</code> tables into the file and read it anew.{/if}</p>{/if}
</main>

<style>
  .ask { display: grid; grid-template-columns: 1fr auto; gap: 0.4rem 0.7rem; align-items: end; margin-bottom: 1.2rem; }
  .ask label span { display: block; font-size: 0.8rem; color: var(--quiet); margin-bottom: 0.2rem; }
  .ask .input, .ask .btn { min-height: 2.75rem; }
  .ask p { grid-column: 1 / -1; min-height: 1.4em; }
  .ill { color: var(--ill); }
  section { margin-bottom: 1.2rem; padding: 0.9rem 1.1rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  h2 { font-size: 1.05rem; font-weight: 700; margin-bottom: 0.3rem; }
  section > ul > li { display: grid; grid-template-columns: minmax(9rem, 15rem) 1fr; gap: 0.2rem 1.2rem; padding: 0.7rem 0; border-top: 1px solid var(--line); }
  .what { display: flex; flex-direction: column; align-items: flex-start; gap: 0.15rem; }
  .name { font-weight: 600; overflow-wrap: anywhere; }
  .change { display: inline-flex; align-items: center; min-height: 2.75rem; color: var(--on); text-decoration: underline; }
  .kind { font-size: 0.85rem; color: var(--quiet); }
  .state { color: var(--ill); font-weight: 600; overflow-wrap: anywhere; }
  .how { min-width: 0; line-height: 1.45; overflow-wrap: anywhere; }
  .parts { margin-top: 0.4rem; font-size: 0.9rem; }
  .parts li { display: grid; grid-template-columns: 5.2rem 1fr; gap: 0.6rem; padding: 0.12rem 0 0.12rem calc(var(--depth) * 1.3rem); }
  .so { justify-self: start; align-self: start; padding: 0 0.5rem; border-radius: 0.8rem; border: 1px dashed var(--edge); font-size: 0.8rem; line-height: 1.4rem; white-space: nowrap; }
  .so.yes { border: 1px solid var(--well); color: var(--well); }
  .so.no { border: 1px solid var(--edge); }
  small { display: block; color: var(--quiet); }
  .left { margin-top: 0.3rem; font-size: 0.9rem; color: var(--quiet); }
  .left.ill { color: var(--ill); }
  @media (max-width: 40rem) { section > ul > li { grid-template-columns: 1fr; } }
</style>
