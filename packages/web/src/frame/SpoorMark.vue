<template>
  <svg width="22" height="18" viewBox="0 0 22 18" aria-hidden="true">
    <g fill="currentColor">
      <ellipse cx="4" cy="13" rx="2.6" ry="3.4" transform="rotate(-14 4 13)" />
      <ellipse cx="11" cy="7" rx="2.6" ry="3.4" transform="rotate(12 11 7)" opacity=".8" />
      <ellipse cx="18" cy="11" rx="2.6" ry="3.4" transform="rotate(-10 18 11)" opacity=".55" />
    </g>
  </svg>
</template>

<style scoped>
svg {
  color: var(--moss);
}
</style>
