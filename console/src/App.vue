<script setup lang="ts">
import { ElButton, ElDropdown, ElDropdownItem, ElDropdownMenu } from 'element-plus'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, client, session } from './api/client'
import Tray from './shared/Tray.vue'
import DiskState from './storage/DiskState.vue'
import PasswordDialog from './people/PasswordDialog.vue'
import { behind } from './shared/live'
import { dark, switchTheme } from './shared/theme'

const route = useRoute()
const router = useRouter()
const project = computed(() => (typeof route.params.project === 'string' ? route.params.project : ''))
const storage = computed(() => route.name === 'storage' || route.name === 'project-storage')
const people = computed(() => ['people', 'account', 'audit', 'service-subscriptions'].includes(String(route.name)))
const data = computed(() => route.name === 'data' || route.name === 'snapshot')
const catalogue = computed(() => ['catalogue', 'model', 'edition'].includes(String(route.name)))
const access = computed(() => ['project-access', 'project-audit', 'subscriptions'].includes(String(route.name)))
const askPassword = ref(false)

async function signOut() {
  const ended = await answer(client.DELETE('/api/v1/session')).catch(() => undefined)
  session.me = null
  if (ended?.elsewhere) {
    location.assign(ended.elsewhere)
    return
  }
  await router.push({ name: 'sign-in' })
}

function choose(what: string) {
  if (what === 'theme') switchTheme()
  else if (what === 'password') askPassword.value = true
  else if (what === 'account') void router.push({ name: 'account' })
  else void signOut()
}
</script>

<template>
  <header v-if="session.me" class="top">
    <RouterLink class="word" to="/">
      <svg width="18" height="18" viewBox="0 0 18 18" aria-hidden="true">
        <path d="M2 12c3 0 3-6 6-6s3 6 8 6" fill="none" stroke="var(--accent)" stroke-width="2" />
        <circle cx="8" cy="6" r="2.2" fill="var(--accent)" />
      </svg>
      Kembrel
    </RouterLink>
    <nav aria-label="Places">
      <RouterLink to="/" :class="{ on: route.name === 'projects' }">Projects</RouterLink>
      <RouterLink
        v-if="project"
        :to="{ name: 'runs', params: { project } }"
        :class="{ on: !!project && route.name !== 'compare' && !storage && !access }"
      >
        {{ project }}
      </RouterLink>
      <RouterLink to="/data" :class="{ on: data }">Data</RouterLink>
      <RouterLink to="/catalogue" :class="{ on: catalogue }">Catalogue</RouterLink>
      <RouterLink
        :to="project ? { name: 'project-storage', params: { project } } : { name: 'storage' }"
        :class="{ on: storage }"
      >
        Storage
      </RouterLink>
      <RouterLink v-if="project" :to="{ name: 'project-access', params: { project } }" :class="{ on: access }">
        Access
      </RouterLink>
      <RouterLink v-else to="/people" :class="{ on: people }">People</RouterLink>
      <RouterLink v-if="route.name === 'compare'" :to="route.fullPath" class="on">Compare</RouterLink>
    </nav>
    <span class="space"></span>
    <ElButton text size="small" :aria-label="dark ? 'Use the light look' : 'Use the dark look'" @click="switchTheme">
      {{ dark ? 'Light' : 'Dark' }}
    </ElButton>
    <ElDropdown trigger="click" @command="choose">
      <ElButton text size="small">{{ session.me.name }}</ElButton>
      <template #dropdown>
        <ElDropdownMenu>
          <ElDropdownItem command="password">
            {{ session.me.has_password ? 'Change password' : 'Set a password' }}
          </ElDropdownItem>
          <ElDropdownItem command="account">Tokens and sessions</ElDropdownItem>
          <ElDropdownItem command="out">Sign out</ElDropdownItem>
        </ElDropdownMenu>
      </template>
    </ElDropdown>
  </header>
  <p v-if="session.me && behind" class="behind" role="status">
    Live updates are interrupted. This page may be out of date; reconnecting.
  </p>
  <DiskState v-if="session.me" />
  <RouterView :key="String(route.name) + Object.values(route.params)" />
  <Tray v-if="session.me && project" :key="project" :project="project" />
  <PasswordDialog v-if="session.me" v-model="askPassword" />
</template>

<style scoped>
.top {
  height: 44px;
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 0 24px;
  border-bottom: 1px solid var(--rule);
  background: var(--sheet);
}
.behind {
  margin: 0;
  padding: 6px 24px;
  border-bottom: 1px solid var(--rule);
  background: var(--sheet);
  color: var(--ink2);
}
.word {
  font-weight: 600;
  letter-spacing: 0.2px;
  display: flex;
  gap: 9px;
  align-items: center;
  color: var(--ink);
  text-decoration: none;
}
nav {
  margin-left: 20px;
  display: flex;
  gap: 18px;
}
nav a {
  color: var(--ink2);
  padding: 13px 0;
  text-decoration: none;
}
nav a.on {
  color: var(--ink);
  box-shadow: inset 0 -2px 0 var(--accent);
  font-weight: 500;
}
@media (max-width: 700px) {
  .top {
    height: auto;
    flex-wrap: wrap;
    padding: 6px 16px 0;
  }
  nav {
    order: 1;
    width: 100%;
    margin-left: 0;
    overflow-x: auto;
  }
  nav a {
    padding: 9px 0;
    white-space: nowrap;
  }
}
</style>
