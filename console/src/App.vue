<script setup lang="ts">
import Button from 'primevue/button'
import Toast from 'primevue/toast'
import { useRouter } from 'vue-router'
import { useLive } from './stores/live'
import { useSession } from './stores/session'
import { useTrouble } from './stores/trouble'

const session = useSession()
const live = useLive()
const trouble = useTrouble()
const reload = () => window.location.reload()
const router = useRouter()
const pages = [
  { name: 'overview', label: 'Overview' },
  { name: 'systems', label: 'Systems' },
  { name: 'identities', label: 'Identities' },
  { name: 'changes', label: 'Changes' },
  { name: 'on-hold', label: 'On hold' },
  { name: 'decisions', label: 'Decisions' },
  { name: 'rules', label: 'Rules' },
  { name: 'settings', label: 'Settings' },
]

async function signOut() {
  await session.signOut()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <Toast position="bottom-right" />
  <a class="skip" href="#main">Skip to content</a>
  <header v-if="session.name">
    <div class="band">
      <RouterLink to="/" class="mark" aria-label="Eager Tide, overview">
        <img src="/mark.svg" alt="" width="26" height="26" />
        <span>Eager Tide</span>
      </RouterLink>
      <nav aria-label="Pages">
        <RouterLink v-for="page in pages" :key="page.name" :to="{ name: page.name }">{{
          page.label
        }}</RouterLink>
      </nav>
      <span class="who">
        <span v-if="!live.connected" class="stale" role="status">Offline: data may be out of date</span>
        {{ session.name }}
        <Button label="Sign out" size="small" text class="leave" @click="signOut" />
      </span>
    </div>
    <svg class="waterline" viewBox="0 0 1200 8" preserveAspectRatio="none" aria-hidden="true">
      <path d="M0 0H1200V3Q1150 8 1100 4T1000 4 900 4 800 4 700 4 600 4 500 4 400 4 300 4 200 4 100 4 0 4Z" />
    </svg>
  </header>
  <main id="main">
    <section v-if="trouble.text" class="sheet trouble" role="alert">
      <h1>{{ trouble.text }}</h1>
      <Button label="Try again" @click="reload" />
    </section>
    <RouterView v-else />
  </main>
</template>

<style scoped>
.trouble {
  border-left: 4px solid var(--bad);
  max-width: 40rem;
}
header {
  color: var(--deep-text);
}
.band {
  background: var(--deep);
  display: flex;
  align-items: center;
  gap: 2rem;
  padding: 0.55rem 1.6rem;
}
.waterline {
  display: block;
  width: 100%;
  height: 8px;
  fill: var(--deep);
}
.mark {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  color: inherit;
  text-decoration: none;
  font-weight: 700;
  letter-spacing: 0.02em;
}
nav {
  display: flex;
  gap: 0.3rem;
  flex: 1;
}
nav a {
  color: inherit;
  text-decoration: none;
  padding: 0.25rem 0.8rem;
  border-bottom: 3px solid transparent;
}
nav a:hover {
  border-bottom-color: #ffffff66;
}
nav a.router-link-active:not([href='/']),
nav a.router-link-exact-active {
  border-bottom-color: var(--lamp);
}
.who {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  font-size: 0.9rem;
}
.leave {
  color: var(--deep-text);
}
.stale {
  color: #10191c;
  background: var(--lamp);
  padding: 0 0.4rem;
}
main {
  max-width: 1360px;
  margin: 0 auto;
  padding: 1.1rem 1.6rem 3rem;
}
.skip {
  position: absolute;
  left: -999px;
}
.skip:focus {
  left: 1rem;
  top: 0.5rem;
  background: var(--sheet);
  padding: 0.3rem 0.6rem;
  z-index: 10;
}
</style>
