<template>
  <span class="wordmark">
    <svg viewBox="0 0 32 32" width="22" height="22" aria-hidden="true">
      <g fill="none" stroke="currentColor" stroke-width="3.4" stroke-linecap="round">
        <path d="M7 5v10.5a9 9 0 0 0 18 0V5" />
        <path d="M11 29a13 13 0 0 0 10 0" stroke-opacity=".55" />
        <path d="M16 6v8" stroke-opacity=".55" />
      </g>
    </svg>
    uproar
  </span>
</template>

<style scoped>
.wordmark {
  display: inline-flex;
  align-items: center;
  gap: 8px;
  font-size: 19px;
  font-weight: 650;
  letter-spacing: -0.03em;
}
svg {
  color: var(--accent);
}
</style>
