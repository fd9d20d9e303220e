<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { api, take, type Schemas } from '@/api/client'
import RuleEffect from '@/components/RuleEffect.vue'
import { plural } from '@/words'

/** Another condition of a role, tried on everybody: who gains it, who loses it, and what that does. Nothing is kept. */
const props = defineProps<{ role: Schemas['Role'] }>()
const field = `when-${props.role.name.replaceAll(/\W+/g, '-')}`
const when = ref(props.role.when ?? '')
const trial = ref<Schemas['RoleTrial'] | null>(null)
const fault = ref('')
const busy = ref(false)
const SHOWN = 100
const sides = computed(() => {
  const all = trial.value
  if (!all) return []
  return [
    { word: 'Would gain', turns: all.gains, none: 'Nobody' },
    { word: 'Would lose', turns: all.loses, none: 'Nobody' },
  ]
})

async function tryIt() {
  busy.value = true
  try {
    const path = { name: props.role.name }
    trial.value = await take(
      api.POST('/api/v1/roles/{name}/trial', { params: { path }, body: { when: when.value } }),
    )
    fault.value = ''
  } catch (problem) {
    trial.value = null
    fault.value = (problem as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="ask" @submit.prevent="tryIt">
    <label :for="field">If its condition were</label>
    <InputText :id="field" v-model="when" class="mono" placeholder="none: given by hand only" />
    <Button type="submit" label="See who gains and loses" size="small" :loading="busy" />
  </form>
  <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
  <div v-if="trial" aria-live="polite">
    <h3>{{ trial.said }}</h3>
    <div class="sides">
      <div v-for="side in sides" :key="side.word">
        <h4>{{ side.word }} ({{ side.turns.length }})</h4>
        <p v-if="!side.turns.length" class="faint">{{ side.none }}</p>
        <ul v-else>
          <li v-for="one in side.turns.slice(0, SHOWN)" :key="one.role + one.identity">
            <RouterLink :to="{ name: 'identity', params: { id: one.identity } }"
              ><bdi>{{ one.label }}</bdi></RouterLink
            >
            <span v-if="one.role !== role.name"> · {{ one.role }}</span>
            <span v-if="one.by && one.by !== when.trim()" class="faint"> {{ one.by }}</span>
          </li>
        </ul>
        <p v-if="side.turns.length > SHOWN" class="faint">and {{ side.turns.length - SHOWN }} more</p>
      </div>
    </div>
    <p v-if="trial.conflicts.length" class="wait">
      Roles would differ about {{ plural(trial.conflicts.length, 'more value') }}:
      {{
        trial.conflicts
          .slice(0, 5)
          .map((one) => `${one.attribute} of ${one.label}`)
          .join(', ')
      }}
    </p>
    <RuleEffect :effect="trial.effect" :sides="['as it is', 'with this condition']" />
    <p class="faint">
      Nothing was kept. Write it into roles.toml in a
      <RouterLink :to="{ name: 'rules' }">draft</RouterLink> to publish it.
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
ul {
  margin: 0;
  padding-left: 1.1rem;
}
.bad {
  color: var(--bad);
}
.wait {
  color: var(--wait);
}
</style>
