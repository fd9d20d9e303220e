<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { api, take, type Schemas } from '@/api/client'
import RuleImpact from '@/components/RuleImpact.vue'
import { plural } from '@/words'

/** Simulates another condition of a role: who gains it, who loses it, and the impact. Stores nothing. */
const props = defineProps<{ role: Schemas['Role'] }>()
const field = `when-${props.role.name.replaceAll(/\W+/g, '-')}`
const when = ref(props.role.when ?? '')
const simulation = ref<Schemas['RoleSimulationView'] | null>(null)
const fault = ref('')
const busy = ref(false)
const SHOWN = 40
/** Who gains or loses the role itself, by name, and the included roles, counted. */
const sides = computed(() => {
  const all = simulation.value
  if (!all) return []
  const side = (title: string, changes: Schemas['RoleChange'][]) => {
    const others = new Map<string, number>()
    for (const one of changes)
      if (one.role !== props.role.name) others.set(one.role, (others.get(one.role) ?? 0) + 1)
    return { title, own: changes.filter((one) => one.role === props.role.name), others: [...others] }
  }
  return [side('Gain the role', all.gains), side('Lose the role', all.loses)]
})

async function simulate() {
  busy.value = true
  try {
    const path = { name: props.role.name }
    simulation.value = await take(
      api.POST('/api/v1/roles/{name}/simulate', { params: { path }, body: { when: when.value } }),
    )
    fault.value = ''
  } catch (problem) {
    simulation.value = null
    fault.value = (problem as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="ask" @submit.prevent="simulate">
    <label :for="field">Other condition</label>
    <InputText :id="field" v-model="when" class="mono" placeholder="none: granted manually only" />
    <Button type="submit" label="Simulate" size="small" :loading="busy" />
  </form>
  <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
  <div v-if="simulation" aria-live="polite">
    <h3>{{ simulation.message }}</h3>
    <div class="sides">
      <div v-for="side in sides" :key="side.title">
        <h4>{{ side.title }} ({{ side.own.length }})</h4>
        <p v-if="!side.own.length" class="faint">None</p>
        <p v-else class="names">
          <span v-for="one in side.own.slice(0, SHOWN)" :key="one.identity">
            <RouterLink :to="{ name: 'identity', params: { id: one.identity } }"
              ><bdi>{{ one.label }}</bdi></RouterLink
            >
            <span v-if="one.by && one.by !== when.trim()" class="faint"> ({{ one.by }})</span>
          </span>
          <span v-if="side.own.length > SHOWN" class="faint">and {{ side.own.length - SHOWN }} more</span>
        </p>
        <p v-if="side.others.length" class="faint">
          included roles: {{ side.others.map(([name, count]) => `${name} (${count})`).join(', ') }}
        </p>
      </div>
    </div>
    <p v-if="simulation.conflicts.length" class="wait">
      {{ plural(simulation.conflicts.length, 'new conflict') }} between roles:
      {{
        simulation.conflicts
          .slice(0, 5)
          .map((one) => `${one.attribute} of ${one.label}`)
          .join(', ')
      }}
    </p>
    <RuleImpact :impact="simulation.impact" :sides="['Now', 'With this condition']" />
    <p class="faint">
      Nothing was stored. To use it, edit roles.toml in a
      <RouterLink :to="{ name: 'rules' }">draft</RouterLink>.
    </p>
  </div>
</template>

<style scoped>
.ask {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  margin: 0.8rem 0;
}
.ask .mono {
  flex: 1;
}
.sides {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 1.5rem;
}
h3 {
  margin: 0.6rem 0;
}
h4 {
  margin: 0 0 0.3rem;
}
.names {
  margin: 0;
}
.names > span {
  margin-right: 0.45em;
}
.names > span:not(:last-child)::after {
  content: ',';
}
.bad {
  color: var(--bad);
}
.wait {
  color: var(--wait);
}
</style>
