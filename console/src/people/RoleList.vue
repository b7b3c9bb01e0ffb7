<script setup lang="ts">
import { roles } from '../shared/roles'

/** The roles and what each may more than those before it. */
</script>

<template>
  <p v-for="r in roles" :key="r.name" class="small role">
    <b>{{ r.name }}</b>
    {{ r.may }}
  </p>
</template>

<style scoped>
.role {
  margin: 2px 0;
}
.role b {
  font-weight: 500;
  color: var(--ink);
}
</style>
