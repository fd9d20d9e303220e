<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import RoleHolders from '@/components/RoleHolders.vue'
import RoleSimulation from '@/components/RoleSimulation.vue'
import { plural } from '@/words'

/** Roles: their holders, and conflicts between roles. */
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/roles')),
  (event) => event.event === 'change_set' || event.event === 'attention_changed',
)
const open = ref<string | null>(null)
const simulating = ref<string | null>(null)
const refused = ref('')
/** How many roles were revoked here: the holders are read again. */
const revoked = ref(0)
const sentence = computed(() => {
  const all = data.value
  if (!all?.roles.length) return { text: 'No roles yet. roles.toml declares them.', tone: '' }
  if (all.conflict_count)
    return { text: `${plural(all.conflict_count, 'conflict')} between roles.`, tone: 'wait' }
  return { text: `${plural(all.roles.length, 'role')}, no conflicts.`, tone: 'good' }
})

async function revokeRole(name: string, id: string) {
  try {
    await take(api.DELETE('/api/v1/roles/{name}/holders/{id}', { params: { path: { name, id } } }))
    refused.value = ''
    revoked.value++
    await load()
  } catch (problem) {
    refused.value = (problem as Error).message
  }
}
</script>

<template>
  <Fetched :loading="loading" :error="error" @retry="load">
    <template v-if="data">
      <h1 class="verdict" :class="sentence.tone">{{ sentence.text }}</h1>
      <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
      <section v-if="data.conflicts.length" class="sheet">
        <h2>Conflicts: the role with the highest priority wins</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>Name</th>
              <th>Attribute</th>
              <th>Value</th>
              <th>Role</th>
              <th>Overridden</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data.conflicts" :key="one.identity + one.attribute">
              <td>
                <RouterLink :to="{ name: 'identity', params: { id: one.identity } }">{{
                  one.label
                }}</RouterLink>
              </td>
              <td>{{ one.attribute }}</td>
              <td>
                <strong>{{ one.value }}</strong>
              </td>
              <td>{{ one.role }}</td>
              <td>{{ one.over.join(', ') }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="data.conflicts.length < data.conflict_count" class="faint">
          The first {{ data.conflicts.length }} of {{ data.conflict_count }} conflicts.
        </p>
      </section>
      <section v-for="role in data.roles" :key="role.name" class="sheet">
        <div class="row spread">
          <div class="row">
            <h2 class="title">{{ role.name }}</h2>
            <span
              >{{ role.when ? '' : 'manual, or through another role'
              }}<code v-if="role.when">{{ role.when }}</code></span
            >
            <span class="faint">priority {{ role.priority }}</span>
            <span class="faint mono">{{ role.rule }}</span>
          </div>
          <div class="row">
            <Button
              :label="plural(role.holder_count, 'holder')"
              size="small"
              severity="secondary"
              :disabled="!role.holder_count"
              :aria-expanded="open === role.name"
              @click="open = open === role.name ? null : role.name"
            />
            <Button
              label="Simulate…"
              size="small"
              severity="secondary"
              :aria-expanded="simulating === role.name"
              :aria-label="`Simulate another condition of ${role.name}`"
              @click="simulating = simulating === role.name ? null : role.name"
            />
          </div>
        </div>
        <p class="gives">
          <template v-if="role.includes.length">includes {{ role.includes.join(', ') }}; </template>
          <template v-if="role.values.length">sets </template>
          <code v-for="value in role.values" :key="value">{{ value }}</code>
        </p>
        <RoleSimulation v-if="simulating === role.name" :role="role" />
        <RoleHolders
          v-if="open === role.name"
          :key="revoked"
          :role="role.name"
          @revoke="(id) => revokeRole(role.name, id)"
        />
      </section>
      <p class="faint">
        Grant a role with <code>eager-tide roles grant ROLE IDENTITY</code>, permanently or until a date.
      </p>
    </template>
  </Fetched>
</template>

<style scoped>
.title {
  margin: 0;
}
.gives {
  margin: 0.4rem 0 0;
}
.gives code {
  margin-right: 0.8rem;
}
.bad {
  color: var(--bad);
}
</style>
