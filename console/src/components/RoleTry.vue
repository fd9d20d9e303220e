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
const SHOWN = 40
/** Who gains or loses the role itself, by name; the roles that come or go with it, counted. */
const sides = computed(() => {
  const all = trial.value
  if (!all) return []
  const side = (word: string, turns: Schemas['RoleTurn'][]) => {
    const others = new Map<string, number>()
    for (const one of turns)
      if (one.role !== props.role.name) others.set(one.role, (others.get(one.role) ?? 0) + 1)
    return { word, own: turns.filter((one) => one.role === props.role.name), others: [...others] }
  }
  return [side('Would gain it', all.gains), side('Would lose it', all.loses)]
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
        <h4>{{ side.word }} ({{ side.own.length }})</h4>
        <p v-if="!side.own.length" class="faint">Nobody</p>
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
          with it: {{ side.others.map(([name, count]) => `${name} (${count})`).join(', ') }}
        </p>
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
