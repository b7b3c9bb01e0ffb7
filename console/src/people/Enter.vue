<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, client, session } from '../api/client'

const route = useRoute()
const router = useRouter()
const problem = ref('')

// The code stands behind "#", so that it reaches no log on the way.
onMounted(async () => {
  try {
    session.me = await answer(client.POST('/api/v1/session/link', { body: { code: route.hash.slice(1) } }))
    await router.replace('/')
  } catch (e) {
    problem.value = (e as Error).message
  }
})
</script>

<template>
  <main class="page">
    <p v-if="!problem">Signing in …</p>
    <template v-else>
      <p class="bad" role="alert">{{ problem }}</p>
      <RouterLink to="/sign-in">Sign in with a password</RouterLink>
    </template>
  </main>
</template>
