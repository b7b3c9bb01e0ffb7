<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { client } from '../api/client'

/** What keeps checkpoints from being kept now: a full disk, or a blob store that does not answer. Nothing while all is well. */
const says = ref('')

const pace = 60_000
let timer = 0

async function look() {
  const found = await client.GET('/api/v1/ready').catch(() => undefined)
  says.value = found?.error?.detail ?? found?.data?.disk?.says ?? ''
}

onMounted(() => {
  void look()
  timer = window.setInterval(() => void look(), pace)
})
onBeforeUnmount(() => {
  window.clearInterval(timer)
})
</script>

<template>
  <p v-if="says" class="disk" role="status">{{ says }}</p>
</template>

<style scoped>
.disk {
  margin: 0;
  padding: 8px 24px;
  border-bottom: 1px solid var(--rule);
  color: var(--warn);
  font-size: 12.5px;
}
</style>
