<script setup lang="ts">
import { ElInput } from 'element-plus'
import { ref, watch } from 'vue'
import Ask from './Ask.vue'

/** Asks why something is done, and does it. */
defineProps<{
  title: string
  text: string
  button: string
  needed?: boolean
  act: (why: string) => Promise<unknown>
}>()
const open = defineModel<boolean>({ required: true })
const why = ref('')
watch(open, () => (why.value = ''))
</script>

<template>
  <Ask
    v-model="open"
    :title="title"
    :button="button"
    :width="460"
    :ready="!needed || !!why.trim()"
    :act="() => act(why)"
  >
    <p>{{ text }}</p>
    <label class="small">
      {{ needed ? 'Why' : 'Why, if there is more to say' }}
      <ElInput v-model="why" type="textarea" :rows="3" maxlength="2000" />
    </label>
  </Ask>
</template>
