<script setup lang="ts">
import { computed } from 'vue'
import type { Checkpoint, RunDetail } from '../api/client'
import StopRun from './StopRun.vue'

/** What may be done with a run, each with the command that does it. */
const props = defineProps<{ run: RunDetail; checkpoints: Checkpoint[] }>()

const present = computed(() => props.checkpoints.filter((c) => !c.replaced))
const best = computed(() => present.value.find((c) => c.best))
const usable = computed(() => present.value.find((c) => c.usable_for === 'resume'))
const steps = computed(() => {
  const run = props.run.address
  const some = present.value.length > 0
  const more = props.run.state === 'finished' ? ' --more -- COMMAND' : ''
  const stop = {
    what: 'Stop',
    says: props.run.stop?.stopped
      ? `It was told to: ${props.run.stop.stopped.why}`
      : 'Its program is told; one that goes on is ended. Resuming goes on with it.',
    command: `kembrel stop ${run}`,
  }
  return [
    ...(props.run.state === 'running' ? [stop] : []),
    {
      what: 'Resume',
      says:
        props.run.state === 'running'
          ? 'It is being recorded; a second leg would have to take over.'
          : props.run.state === 'finished' && usable.value
            ? `It is finished. With a command that trains more epochs it would go on from ${usable.value.address}.`
            : usable.value
              ? `It would go on from ${usable.value.address}, as its next leg.`
              : some
                ? 'No checkpoint has all that going on needs; with the weights alone the run would say so for ever.'
                : 'It has no checkpoint to go on from.',
      command: usable.value
        ? `kembrel resume ${run}${more}`
        : some
          ? `kembrel resume ${run} --with weights${more}`
          : '',
    },
    {
      what: 'Branch',
      says: 'A new run from one of its checkpoints, with other values.',
      command: some ? `kembrel branch ${best.value?.address ?? present.value[0].address} --hyper NAME=VALUE` : '',
    },
    {
      what: 'Run again',
      says: 'Afresh, from its recipe; without other values it tells whether the run is repeatable.',
      command: props.run.recipe.command?.length ? `kembrel rerun ${run}` : '',
    },
    {
      what: 'Restore',
      says: 'Its best weights and what using them needs, every digest checked.',
      command: best.value ? `kembrel restore ${run}@best --for-use --into model` : '',
    },
    {
      what: 'Verify',
      says: 'Your evaluation of the restored model, compared with what was recorded.',
      command: best.value ? `kembrel verify ${run}@best -- COMMAND` : '',
    },
    {
      what: 'Hand on',
      says: 'Entered in the catalogue as an edition of a model, to be checked, signed off and used.',
      command: best.value ? `kembrel catalogue add ${run}@best --model MODEL` : '',
    },
  ]
})
</script>

<template>
  <table>
    <tbody>
      <tr v-for="s in steps" :key="s.what">
        <th scope="row">{{ s.what }}</th>
        <td class="small">{{ s.says }}</td>
        <td>
          <code v-if="s.command" class="mono">{{ s.command }}</code>
          <StopRun v-if="s.what === 'Stop'" class="act" :run="run" />
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
th {
  width: 90px;
}
.act {
  margin-left: 12px;
}
</style>
