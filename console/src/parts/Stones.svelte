<!-- Our own mark, small: stones that stand on each other. -->
<script lang="ts">
  let { size }: { size: number } = $props()
</script>

<svg viewBox="0 0 24 24" width={size} height={size} fill="none" stroke="currentColor" stroke-width="2" aria-hidden="true">
  <ellipse cx="11.4" cy="5" rx="3.4" ry="2.1" /><ellipse cx="12.4" cy="12" rx="6.4" ry="2.7" /><ellipse cx="11.6" cy="19.2" rx="9.2" ry="2.9" />
</svg>
