<!-- The difference of two files, as a unified diff: what goes and what comes told apart by sign and colour. -->
<script lang="ts">
  let { text, label }: { text: string; label: string } = $props()
  const lines = $derived(text.split('\n').filter((line) => !line.startsWith('---') && !line.startsWith('+++')))
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<pre tabindex="0" role="region" aria-label={label}>{#each lines as line, number (number)}<span class:come={line.startsWith('+')} class:goes={line.startsWith('-')} class:where={line.startsWith('@')}>{line || ' '}</span>{/each}</pre>

<style>
  pre { max-height: 24rem; overflow: auto; padding: 0.6rem 0.8rem; background: var(--ground); border: 1px solid var(--line); border-radius: var(--radius-base); font-size: 0.85rem; line-height: 1.5; }
  span { display: block; white-space: pre-wrap; overflow-wrap: anywhere; }
  .come { color: var(--on); font-weight: 600; }
  .goes { color: var(--ill); }
  .where { color: var(--soft); }
</style>
