<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'

/** What an edit of the rules does to everybody: in one sentence, by system, and one by one. */
const props = defineProps<{ effect: Schemas['Effect']; sides: [string, string] }>()
const search = ref('')
const system = ref('')
const nothing = computed(() => props.effect.total === 0)
const name = (of: string | null | undefined) => of ?? 'identities'
const lines = computed(() => {
  const wanted = search.value.trim().toLowerCase()
  return props.effect.lines.filter(
    (line) =>
      (!system.value || name(line.system) === system.value) &&
      (!wanted ||
        [line.label, line.attribute ?? '', line.before, line.after].some((text) =>
          text.toLowerCase().includes(wanted),
        )),
  )
})
const SHOWN = 200
</script>

<template>
  <p class="said" :class="{ calm: nothing }" role="status">{{ effect.said }}</p>
  <div v-if="!nothing">
    <div class="row counts">
      <button
        v-for="one in effect.systems"
        :key="name(one.system)"
        type="button"
        class="count"
        :aria-pressed="system === name(one.system)"
        @click="system = system === name(one.system) ? '' : name(one.system)"
      >
        <strong>{{ name(one.system) }}</strong>
        <span v-if="one.values">{{ one.values }} {{ one.values === 1 ? 'value' : 'values' }}</span>
        <span v-for="verdict in one.verdicts" :key="verdict.before + verdict.after"
          >{{ verdict.count }} {{ verdict.before }} → {{ verdict.after }}</span
        >
      </button>
      <InputText v-model="search" placeholder="Find" aria-label="Find a name, an attribute or a value" />
    </div>
    <table class="plain">
      <thead>
        <tr>
          <th>Who</th>
          <th>System</th>
          <th>Attribute</th>
          <th>{{ sides[0] }}</th>
          <th>{{ sides[1] }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(line, at) in lines.slice(0, SHOWN)" :key="at">
          <td>
            <RouterLink v-if="line.identity" :to="{ name: 'identity', params: { id: line.identity } }"
              ><bdi>{{ line.label }}</bdi></RouterLink
            ><bdi v-else>{{ line.label }}</bdi>
          </td>
          <td>{{ name(line.system) }}</td>
          <td>
            <template v-if="line.attribute">{{ line.attribute }}</template>
            <span v-else class="faint" :title="line.reason">the account as a whole</span>
          </td>
          <td class="went">
            <bdi>{{ line.before }}</bdi>
          </td>
          <td class="came">
            <bdi>{{ line.after }}</bdi>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="!lines.length" class="faint">Nothing here fits what you look for.</p>
    <p v-else-if="lines.length > SHOWN || effect.total > effect.lines.length" class="faint">
      {{ Math.min(lines.length, SHOWN) }} of {{ effect.total }} are shown; find a name to see the others.
    </p>
  </div>
</template>

<style scoped>
.said {
  font-size: 1.1rem;
  font-weight: 650;
  margin: 0 0 0.6rem;
}
.said.calm {
  font-weight: 400;
}
.counts {
  margin-bottom: 0.6rem;
}
.count {
  font: inherit;
  display: inline-flex;
  gap: 0.6rem;
  padding: 0.3rem 0.7rem;
  background: var(--calm-bg);
  color: inherit;
  border: 1px solid var(--line);
  cursor: pointer;
}
.count[aria-pressed='true'] {
  border-color: var(--calm);
  box-shadow: inset 0 -3px 0 var(--calm);
}
.went {
  color: var(--faint);
}
.came {
  font-weight: 600;
}
</style>
