<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElInput } from 'element-plus'
import { ref } from 'vue'
import { answer, client, session } from '../api/client'

const open = defineModel<boolean>({ required: true })
const old = ref('')
const password = ref('')
const revoke = ref(false)
const problem = ref('')

async function save() {
  problem.value = ''
  try {
    const body = {
      password: password.value,
      revoke_tokens: revoke.value,
      ...(session.me?.has_password ? { old: old.value } : {}),
    }
    await answer(client.PUT('/api/v1/me/password', { body }))
    if (session.me) session.me.has_password = true
    old.value = password.value = ''
    revoke.value = false
    open.value = false
  } catch (e) {
    problem.value = (e as Error).message
  }
}
</script>

<template>
  <ElDialog v-model="open" title="Password" width="380">
    <form id="password-form" @submit.prevent="save">
      <label v-if="session.me?.has_password">
        Present password
        <ElInput v-model="old" type="password" autocomplete="current-password" />
      </label>
      <label>
        New password, 10 characters at least
        <ElInput v-model="password" type="password" autocomplete="new-password" minlength="10" />
      </label>
      <ElCheckbox v-model="revoke">End all my tokens too</ElCheckbox>
      <p>All other sessions end. Recorders whose token ends keep what they record until they have another.</p>
      <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    </form>
    <template #footer>
      <ElButton @click="open = false">Leave it</ElButton>
      <ElButton type="primary" native-type="submit" form="password-form">Set password</ElButton>
    </template>
  </ElDialog>
</template>

<style scoped>
label {
  display: block;
  margin-bottom: 12px;
}
</style>
