<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, client, session } from '../api/client'
import type { components } from '../api/schema.d'

const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const problem = ref(said())
const providers = ref<components['schemas']['Provider'][]>([])
const busy = ref(false)

/** What went wrong where the service sent the browser back to here. */
function said() {
  const found = /(?:^|; )kembrel_said=([^;]*)/.exec(document.cookie)
  document.cookie = 'kembrel_said=; Path=/; Max-Age=0'
  return found ? decodeURIComponent(found[1].replace(/\+/g, ' ')) : ''
}
const next = () => (typeof route.query.next === 'string' && /^\/(?!\/)/.test(route.query.next) ? route.query.next : '/')
answer(client.GET('/api/v1/session/providers'))
  .then((found) => (providers.value = found.items ?? []))
  .catch(() => undefined)

async function signIn() {
  problem.value = ''
  busy.value = true
  try {
    session.me = await answer(client.POST('/api/v1/session', { body: { name: name.value, password: password.value } }))
    await router.push(next())
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <main>
    <h1>
      <svg width="26" height="26" viewBox="0 0 18 18" aria-hidden="true">
        <path d="M2 12c3 0 3-6 6-6s3 6 8 6" fill="none" stroke="var(--accent)" stroke-width="2" />
        <circle cx="8" cy="6" r="2.2" fill="var(--accent)" />
      </svg>
      Kembrel
    </h1>
    <form @submit.prevent="signIn">
      <label>
        Name
        <ElInput v-model="name" name="name" autocomplete="username" autofocus />
      </label>
      <label>
        Password
        <ElInput v-model="password" name="password" type="password" autocomplete="current-password" />
      </label>
      <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
      <ElButton type="primary" native-type="submit" :loading="busy">Sign in</ElButton>
    </form>
    <p v-for="p in providers" :key="p.name" class="elsewhere">
      <a :href="`${p.path}?next=${encodeURIComponent(next())}`">Sign in with {{ p.title }}</a>
    </p>
    <p class="small">No password yet? In a terminal where you are signed in, create a link that works once:</p>
    <pre class="command">kembrel sign-in --link</pre>
  </main>
</template>

<style scoped>
main {
  width: 320px;
  margin: 14vh auto 0;
}
h1 {
  display: flex;
  gap: 12px;
  align-items: center;
  margin-bottom: 24px;
}
label {
  display: block;
  margin-bottom: 14px;
}
.elsewhere {
  margin: 0 0 16px;
}
form {
  margin-bottom: 24px;
}
</style>
