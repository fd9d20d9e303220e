<script setup lang="ts">
import Button from 'primevue/button'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import SystemSheet from '@/components/SystemSheet.vue'
import { useFetched } from '@/components/fetched'

const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/systems')),
  (event) => event.event === 'system' || (event.event === 'full_read' && event.state !== 'running'),
)
</script>

<template>
  <div class="row spread">
    <h1>Systems</h1>
    <Button label="Connect a system" @click="$router.push({ name: 'connect' })" />
  </div>
  <p class="faint">
    A new system is read-only and not armed. Nothing is written to it until you enable writes and arm it.
  </p>
  <Fetched :loading="loading" :error="error" :empty="data?.length === 0" @retry="load">
    <template #empty>
      No system is connected yet. Connect one here, or with the client:
      <code>eager-tide systems add NAME --kind ldap --address …</code>
    </template>
    <div class="systems">
      <SystemSheet v-for="system in data ?? []" :key="system.name" :system="system" readable />
    </div>
  </Fetched>
</template>

<style scoped>
.systems {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(26rem, 1fr));
  gap: 1rem;
}
</style>
