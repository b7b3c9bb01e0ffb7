<script setup lang="ts">
import { ElButton, ElDropdown, ElDropdownItem, ElDropdownMenu } from 'element-plus'

/** What a page shows, as files. */
defineProps<{ files: { label: string; href: string }[] }>()
</script>

<template>
  <ElDropdown trigger="click">
    <ElButton size="small">Export</ElButton>
    <template #dropdown>
      <ElDropdownMenu>
        <ElDropdownItem v-for="f in files" :key="f.href">
          <a :href="f.href" download>{{ f.label }}</a>
        </ElDropdownItem>
      </ElDropdownMenu>
    </template>
  </ElDropdown>
</template>

<style scoped>
a {
  color: var(--ink);
}
</style>
