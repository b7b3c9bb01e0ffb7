<script setup lang="ts">
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { ref, watch } from 'vue'

/** Asks why something is done, and does it; what goes wrong is said in place. */
const props = defineProps<{
  title: string
  text: string
  button: string
  needed?: boolean
  act: (why: string) => Promise<unknown>
}>()
const open = defineModel<boolean>({ required: true })
const why = ref('')
const problem = ref('')
const busy = ref(false)
watch(open, () => {
  why.value = problem.value = ''
})
async function go() {
  busy.value = true
  problem.value = ''
  try {
    await props.act(why.value)
    open.value = false
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <ElDialog v-model="open" :title="title" width="460">
    <p>{{ text }}</p>
    <label class="small">
      {{ needed ? 'Why' : 'Why, if there is more to say' }}
      <ElInput v-model="why" type="textarea" :rows="3" maxlength="2000" />
    </label>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <template #footer>
      <ElButton @click="open = false">Cancel</ElButton>
      <ElButton type="primary" :disabled="needed && !why.trim()" :loading="busy" @click="go">{{ button }}</ElButton>
    </template>
  </ElDialog>
</template>

<style scoped>
p:first-child {
  margin-top: 0;
}
</style>
