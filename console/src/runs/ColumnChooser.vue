<script setup lang="ts">
import { ElButton, ElInput, ElInputNumber, ElOption, ElPopover, ElSelect } from 'element-plus'
import { computed, ref } from 'vue'
import type { Words } from '../api/client'
import { formats, hyperValue, labelOf, own, type Column } from '../shared/columns'

/** Which columns there are, in which order, how wide, and how their numbers are written. */
const props = defineProps<{ words: Words | undefined; columns: Column[] }>()
const emit = defineEmits<{ change: [columns: Column[]]; usual: []; open: [] }>()
const search = ref('')
const typed = ref('')
const valueHint = 'or a value: last("loss.val") - best("loss.val")'

const curveForms = ['best', 'last', 'at'] as const
const all = computed(() => {
  const w = props.words
  return [
    ...Object.keys(own),
    ...(w?.fields ?? []).map((f) => f.name).filter((f) => !own[f] && !['number', 'title'].includes(f)),
    ...(w?.hyper ?? []).map(hyperValue),
    ...(w?.curves ?? []).flatMap((c) => curveForms.map((form) => `${form}(${JSON.stringify(c)})`)),
  ]
})
const found = computed(() => {
  const words = search.value.toLowerCase().split(/\s+/).filter(Boolean)
  return all.value
    .filter((what) => !props.columns.some((c) => c.what === what))
    .filter((what) => words.every((w) => (what + ' ' + labelOf(what)).toLowerCase().includes(w)))
    .slice(0, 60)
})

const add = (what: string) => {
  emit('change', [
    ...props.columns,
    {
      what,
      label: labelOf(what),
      numeric: !own[what] || !!own[what].numeric,
      width: own[what]?.width ?? 84,
      format: '',
    },
  ])
}
function addTyped() {
  const what = typed.value.trim()
  if (what && !props.columns.some((c) => c.what === what)) add(what)
  typed.value = ''
}
const take = (i: number) => {
  emit(
    'change',
    props.columns.filter((_, k) => k !== i),
  )
}
function move(i: number, by: number) {
  const list = [...props.columns]
  const [c] = list.splice(i, 1)
  list.splice(i + by, 0, c)
  emit('change', list)
}
const set = (i: number, part: Partial<Column>) => {
  emit(
    'change',
    props.columns.map((c, k) => (k === i ? { ...c, ...part } : c)),
  )
}
</script>

<template>
  <ElPopover trigger="click" :width="560" placement="bottom-end" @show="emit('open')">
    <template #reference>
      <ElButton size="small">Columns</ElButton>
    </template>
    <div class="both" role="group" aria-label="Columns">
      <div>
        <b>Shown</b>
        <ol>
          <li v-for="(c, i) in columns" :key="c.what">
            <span class="label" :title="c.what">{{ c.label }}</span>
            <button type="button" :disabled="i === 0" :aria-label="`${c.label} further left`" @click="move(i, -1)">
              ↑
            </button>
            <button
              type="button"
              :disabled="i === columns.length - 1"
              :aria-label="`${c.label} further right`"
              @click="move(i, 1)"
            >
              ↓
            </button>
            <ElInputNumber
              :model-value="c.width"
              size="small"
              :min="40"
              :max="600"
              :step="10"
              :controls="false"
              :aria-label="`width of ${c.label} in pixels`"
              @change="(w) => set(i, { width: Number(w) || c.width })"
            />
            <ElSelect
              v-if="c.numeric && c.what !== 'took'"
              :model-value="c.format"
              size="small"
              :aria-label="`how ${c.label} is written`"
              @change="(f: string) => set(i, { format: f })"
            >
              <ElOption v-for="f in formats" :key="f.value" :value="f.value" :label="f.label" />
            </ElSelect>
            <span v-else class="none"></span>
            <button type="button" :aria-label="`take ${c.label} away`" @click="take(i)">×</button>
          </li>
        </ol>
        <ElButton size="small" @click="emit('usual')">As usual</ElButton>
      </div>
      <div>
        <ElInput v-model="search" size="small" clearable placeholder="Search columns" aria-label="Search columns" />
        <ul>
          <li v-for="what in found" :key="what">
            <button type="button" class="add" :title="what" @click="add(what)">{{ labelOf(what) }}</button>
          </li>
        </ul>
        <ElInput
          v-model="typed"
          size="small"
          class="mono"
          :placeholder="valueHint"
          aria-label="A value of one's own"
          @keydown.enter="addTyped"
        />
      </div>
    </div>
  </ElPopover>
</template>

<style scoped>
.both {
  display: grid;
  grid-template-columns: 330px 1fr;
  gap: 18px;
}
ol,
ul {
  list-style: none;
  margin: 6px 0;
  padding: 0;
  max-height: 330px;
  overflow-y: auto;
}
ol li {
  display: flex;
  align-items: center;
  gap: 4px;
  padding: 1px 0;
}
.label {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
ol .el-input-number {
  width: 52px;
}
ol .el-select,
.none {
  width: 92px;
}
li button {
  background: none;
  border: 0;
  color: var(--ink2);
  cursor: pointer;
  padding: 1px 5px;
}
li button:disabled {
  color: var(--rule2);
}
button.add {
  color: var(--ink);
  text-align: left;
  width: 100%;
}
button.add:hover {
  background: var(--accent2);
}
</style>
