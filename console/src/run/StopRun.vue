<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, ref } from 'vue'
import { answer, client, type RunDetail } from '../api/client'
import Reason from '../shared/Reason.vue'
import { useMay } from '../shared/may'

/** Asks a run that is recorded to stop, by those who may. */
defineOptions({ inheritAttrs: false })
const props = defineProps<{ run: RunDetail }>()
const { may } = useMay(props.run.project)
const allowed = computed(() => may('member', props.run.who))
const open = ref(false)
const stop = (why: string) =>
  answer(
    client.PUT('/api/v1/projects/{project}/runs/{number}/stop', {
      params: { path: { project: props.run.project, number: props.run.number } },
      body: { why },
    }),
  )
</script>

<template>
  <ElButton v-if="allowed" v-bind="$attrs" size="small" @click="open = true">Stop …</ElButton>
  <Reason
    v-model="open"
    :title="`Stop ${run.address}`"
    text="Its program is told within seconds; one that goes on for half a minute, and was started by kembrel record, is ended. Resuming goes on with it."
    button="Stop it"
    :act="stop"
  />
</template>
