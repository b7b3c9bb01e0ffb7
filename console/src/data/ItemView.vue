<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed } from 'vue'
import type { Item, Snapshot } from '../api/client'
import Shown from '../shared/Shown.vue'
import { bytes, hyper } from '../shared/format'

/** One item large, with what is known of it; without bytes it is the row that it is. */
const props = defineProps<{ snapshot: Snapshot; item: Item }>()
const emit = defineEmits<{ step: [by: number]; close: [] }>()
const url = computed(
  () => `/api/v1/datasets/${props.snapshot.dataset}/snapshots/${props.snapshot.number}/items/${props.item.row}/bytes`,
)
</script>

<template>
  <section class="one" :aria-label="item.key">
    <div class="head">
      <ElButton size="small" aria-label="The one before" @click="emit('step', -1)">‹</ElButton>
      <ElButton size="small" aria-label="The next one" @click="emit('step', 1)">›</ElButton>
      <span class="space"></span>
      <ElButton size="small" text @click="emit('close')">Close</ElButton>
    </div>
    <p class="mono key">{{ item.key }}</p>
    <Shown v-if="item.kept" :url="url" :name="item.key" />
    <p v-else class="small">Its bytes were not kept (data add --keep-bytes keeps them).</p>
    <dl>
      <div v-if="item.split">
        <dt>split</dt>
        <dd>{{ item.split }}</dd>
      </div>
      <div v-if="item.group">
        <dt>group</dt>
        <dd class="mono">{{ item.group }}</dd>
      </div>
      <div v-if="item.labels?.length">
        <dt>label</dt>
        <dd>{{ item.labels.join(' + ') }}</dd>
      </div>
      <div v-if="item.found?.length">
        <dt>found</dt>
        <dd class="bad">{{ item.found.join(', ') }}</dd>
      </div>
      <div v-for="(v, name) in item.own ?? {}" :key="name">
        <dt>{{ name }}</dt>
        <dd class="mono">{{ hyper(v) }}</dd>
      </div>
      <div>
        <dt>size</dt>
        <dd class="mono">{{ item.size || item.digest ? bytes(item.size) : 'not known' }}</dd>
      </div>
      <div v-if="item.digest">
        <dt>digest</dt>
        <dd class="mono digest" :title="item.digest">{{ item.digest }}</dd>
      </div>
    </dl>
    <p v-if="item.kept" class="small"><a :href="url" download>Export its bytes</a></p>
  </section>
</template>

<style scoped>
.one {
  width: 300px;
  flex: none;
}
.head {
  display: flex;
}
.key {
  margin: 8px 0;
  overflow-wrap: anywhere;
}
dl {
  margin: 8px 0;
  font-size: 12px;
}
dl div {
  display: flex;
  gap: 10px;
  border-bottom: 1px solid var(--rule);
  padding: 3px 0;
}
dt {
  color: var(--ink2);
  width: 64px;
  flex: none;
}
dd {
  margin: 0;
  min-width: 0;
  overflow-wrap: anywhere;
}
.digest {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
