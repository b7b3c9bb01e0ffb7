<script setup lang="ts">
import { ElButton, ElDialog } from 'element-plus'
import { ref, watch } from 'vue'

/** A dialog that asks for something and does it: it closes when that is done; what goes wrong is said in place. */
const props = withDefaults(
  defineProps<{ title: string; button: string; ready?: boolean; width?: number; act: () => Promise<unknown> }>(),
  { ready: true, width: 520 },
)
const open = defineModel<boolean>({ required: true })
const problem = ref('')
const busy = ref(false)
watch(open, () => (problem.value = ''))
async function go() {
  busy.value = true
  problem.value = ''
  try {
    await props.act()
    open.value = false
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <ElDialog v-model="open" :title="title" :width="width" destroy-on-close>
    <form class="asks" @submit.prevent="ready && go()">
      <slot></slot>
      <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    </form>
    <template #footer>
      <ElButton @click="open = false">Cancel</ElButton>
      <ElButton type="primary" :disabled="!ready" :loading="busy" @click="go">{{ button }}</ElButton>
    </template>
  </ElDialog>
</template>

<style scoped>
.asks {
  display: grid;
  gap: 10px;
}
.asks p {
  margin: 0;
}
/* A label with what it is of beside it. */
.asks :slotted(label.beside) {
  display: grid;
  grid-template-columns: 120px minmax(0, 1fr);
  align-items: center;
}
</style>
