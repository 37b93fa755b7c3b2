<template>
  <svg overflow="visible" width="22" height="16" viewBox="0 0 20 14" aria-hidden="true">
    <path d="M1 5c3-5 6-5 9 0s6 5 9 0" fill="none" stroke="var(--sea)" stroke-width="2" />
    <path d="M1 11c3-5 6-5 9 0s6 5 9 0" fill="none" stroke="var(--tide)" stroke-width="2" />
  </svg>
</template>
