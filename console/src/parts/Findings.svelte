<!-- What a change of the site would come to: in words, what is wrong with it, what is new because of it, and the lines of the file. -->
<script lang="ts">
  import type { SitePreview } from '../state/types'
  import Lines from './Lines.svelte'

  let { found }: { found: SitePreview } = $props()
</script>

{#if found.words.length}<ul aria-label="What changes">{#each found.words as each (each)}<li>{each}</li>{/each}</ul>{/if}
{#each found.errors as each (each.line + each.what)}<p class="ill" role="alert"><b>It cannot be so:</b> {each.what}. <small>{each.remedy}</small></p>{/each}
{#each found.new as each (each.line + each.what)}<p class="wary"><b>New:</b> {each.what}. <small>{each.remedy}</small></p>{/each}
{#if found.old.length}<p class="soft">{found.old.length} {found.old.length === 1 ? 'warning' : 'warnings'} as before.</p>{/if}
{#if found.lines}<details><summary>Its lines in the file</summary><Lines text={found.lines} label="The lines that would change" /></details>{/if}

<style>
  ul { list-style: disc; padding-left: 1.2rem; line-height: 1.5; }
  p { line-height: 1.45; }
  small { color: var(--soft); }
  .ill { color: var(--ill); }
  .wary { border-left: 4px solid var(--wary); padding-left: 0.6rem; }
  .soft { color: var(--soft); font-size: 0.88rem; }
  summary { min-height: 2.75rem; padding-block: 0.6rem; cursor: pointer; font-size: 0.88rem; }
</style>
