<script setup lang="ts">
import { ElAutocomplete } from 'element-plus'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { answer, client } from '../api/client'

/** The line by which runs are filtered, with completion from the project's own data; "/" goes to it. */
const props = defineProps<{ project: string; problem: string }>()
const model = defineModel<string>({ required: true })
const text = ref(model.value)
watch(model, (now) => (text.value = now))
/** What of the component is used. */
interface Suggesting {
  focus(): void
  close(): void
  handleSelect(item: unknown): Promise<void>
  highlightedIndex: number
  activated: boolean
  suggestions: unknown[]
}
const field = ref<Suggesting>()

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

/**
 * Keys go here before the component has them: Tab takes the suggestion that is marked, or the first, and leaves the line
 * where there is none; Enter takes one that is marked, and otherwise filters.
 */
function keys(e: KeyboardEvent) {
  const at = field.value
  if (!at || e.isComposing) return
  const open = at.activated && at.suggestions.length > 0
  const marked = open && at.highlightedIndex >= 0
  if (e.key === 'Tab' && !e.shiftKey && open) {
    void at.handleSelect(at.suggestions[Math.max(0, at.highlightedIndex)])
    e.preventDefault()
  } else if (e.key === 'Enter' && marked) {
    void at.handleSelect(at.suggestions[at.highlightedIndex])
    e.preventDefault()
  } else if (e.key === 'Enter') {
    at.close()
    apply()
  } else if (e.key !== 'Tab') {
    return
  }
  e.stopPropagation()
}
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
  <div ref="line" class="filter" @keydown.capture="keys">
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
