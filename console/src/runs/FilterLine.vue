<script setup lang="ts">
import { ElAutocomplete } from 'element-plus'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { answer, client } from '../api/client'

/** The line by which runs are filtered, with completion from the project's own data; "/" goes to it. */
const props = defineProps<{ project: string; problem: string }>()
const model = defineModel<string>({ required: true })
const text = ref(model.value)
watch(model, (now) => (text.value = now))
const field = ref<{ focus(): void }>()

async function suggest(typed: string, show: (items: { value: string; label: string }[]) => void) {
  try {
    const params = { path: { project: props.project }, query: { text: typed } }
    const found = await answer(client.GET('/api/v1/projects/{project}/complete', { params }))
    show((found.items ?? []).map((s) => ({ value: s.text, label: s.label })))
  } catch {
    show([])
  }
}
const hint = 'filter: best("loss.val") < 0.5 && hyper.lr <= 0.01   ( / )'
const apply = () => (model.value = text.value.trim())

function focus(e: KeyboardEvent) {
  const at = e.target as HTMLElement
  if (e.key !== '/' || e.ctrlKey || e.metaKey || e.altKey || /^(INPUT|TEXTAREA|SELECT)$/.test(at.tagName)) return
  e.preventDefault()
  field.value?.focus()
}
/** The component names an active suggestion also where there is none; screen readers would look for it in vain. */
const wrong = new MutationObserver((all) => {
  for (const m of all) {
    const input = m.target as HTMLElement
    if (!document.getElementById(input.getAttribute('aria-activedescendant') ?? '')) {
      if (input.hasAttribute('aria-activedescendant')) input.removeAttribute('aria-activedescendant')
    }
  }
})
const line = ref<HTMLElement>()
onMounted(() => {
  document.addEventListener('keydown', focus)
  const input = line.value?.querySelector('input')
  if (!input) return
  input.removeAttribute('aria-activedescendant')
  wrong.observe(input, { attributes: true, attributeFilter: ['aria-activedescendant'] })
})
onBeforeUnmount(() => {
  document.removeEventListener('keydown', focus)
  wrong.disconnect()
})
</script>

<template>
  <div ref="line" class="filter">
    <ElAutocomplete
      ref="field"
      v-model="text"
      :fetch-suggestions="suggest"
      :debounce="120"
      :trigger-on-focus="false"
      :class="{ wrong: problem }"
      class="line mono"
      size="small"
      clearable
      spellcheck="false"
      aria-label="Filter"
      :aria-invalid="problem !== ''"
      :aria-describedby="problem ? 'filter-problem' : undefined"
      :placeholder="hint"
      @keydown.enter="apply"
      @clear="apply"
      @blur="apply"
    >
      <template #default="{ item }">
        <span class="mono">{{ item.label }}</span>
      </template>
    </ElAutocomplete>
    <p v-if="problem" id="filter-problem" class="bad small" role="alert">{{ problem }}</p>
  </div>
</template>

<style scoped>
.filter {
  min-width: 0;
}
.line {
  width: 100%;
}
.filter p {
  margin: 4px 0 0;
}
</style>
