<script setup lang="ts">
/** The head of a drawing: its title, what a page puts beside it, and the drawing as files and as a table. */
defineProps<{ title: string; kinds: readonly string[] }>()
defineEmits<{ save: [kind: string] }>()
const asTable = defineModel<boolean>('asTable', { required: true })
</script>

<template>
  <figcaption>
    <b>{{ title }}</b>
    <slot></slot>
    <span class="space"></span>
    <span class="acts">
      <button
        v-for="k in kinds"
        :key="k"
        type="button"
        class="small"
        :aria-label="`${title} as ${k.toUpperCase()}`"
        @click="$emit('save', k)"
      >
        {{ k }}
      </button>
      <button type="button" class="small" :aria-expanded="asTable" @click="asTable = !asTable">
        {{ asTable ? 'drawing only' : 'as table' }}
      </button>
    </span>
  </figcaption>
</template>

<style scoped>
figcaption {
  display: flex;
  align-items: baseline;
  gap: 12px;
}
b {
  white-space: nowrap;
}
.acts {
  display: flex;
  gap: 10px;
  white-space: nowrap;
}
.acts button {
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
}
</style>
