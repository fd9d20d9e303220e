<script setup lang="ts">
import { computed } from 'vue'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import { plural } from '@/words'

/** Licences: seats in use, who waits for one, and what the next weeks bring. */
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/licences')),
  (event) => event.event === 'change_set' || event.event === 'noticed',
)
const sentence = computed(() => {
  const all = data.value ?? []
  if (!all.length) return { text: 'No licences are counted: licences.toml names them.', tone: '' }
  const waiting = all.reduce((sum, one) => sum + one.waiting.length, 0)
  const short = all.filter((one) => one.wanted > one.seats)
  if (waiting)
    return {
      text: waiting === 1 ? 'One person waits for a seat.' : `${waiting} people wait for a seat.`,
      tone: 'wait',
    }
  const first = short[0]
  if (first)
    return {
      text: `${first.name} will be ${plural(first.wanted - first.seats, 'seat')} short within ${first.ahead_days} days.`,
      tone: 'wait',
    }
  return { text: 'Nobody waits for a seat, and there are enough for what is coming.', tone: 'good' }
})
/** The share of the whole scale, as a width. */
const width = (part: number, seats: number, wanted: number) => `${(100 * part) / Math.max(seats, wanted, 1)}%`
</script>

<template>
  <Fetched :loading="loading" :error="error" @retry="load">
    <template v-if="data">
      <h1 class="verdict" :class="sentence.tone">{{ sentence.text }}</h1>
      <section v-for="one in data" :key="one.name" class="sheet">
        <div class="row spread">
          <div class="row">
            <h2 class="title">{{ one.name }}</h2>
            <RouterLink :to="{ name: 'system', params: { name: one.system } }">{{ one.system }}</RouterLink>
          </div>
          <span class="faint mono">{{ one.rule }}</span>
        </div>
        <div
          class="bar"
          role="img"
          :aria-label="`${one.used} of ${one.seats} seats are in use; ${one.wanted} are wanted in ${one.ahead_days} days`"
        >
          <div class="used" :style="{ width: width(one.used, one.seats, one.wanted) }"></div>
          <div class="limit" :style="{ left: width(one.seats, one.seats, one.wanted) }"></div>
          <div class="wanted" :style="{ left: width(one.wanted, one.seats, one.wanted) }"></div>
        </div>
        <dl class="facts">
          <div>
            <dt>In use</dt>
            <dd>
              <strong>{{ one.used }}</strong> of {{ one.seats }}
            </dd>
          </div>
          <div>
            <dt>Waiting now</dt>
            <dd :class="{ bad: one.waiting.length }">
              <strong>{{ one.waiting.length }}</strong>
            </dd>
          </div>
          <div>
            <dt>Start within {{ one.ahead_days }} days</dt>
            <dd>
              <strong>{{ one.starting }}</strong>
            </dd>
          </div>
          <div>
            <dt>Leave within {{ one.ahead_days }} days</dt>
            <dd>
              <strong>{{ one.leaving }}</strong>
            </dd>
          </div>
          <div>
            <dt>Wanted then</dt>
            <dd :class="{ bad: one.wanted > one.seats }">
              <strong>{{ one.wanted }}</strong>
              <span v-if="one.wanted > one.seats"> · {{ one.wanted - one.seats }} too many</span>
            </dd>
          </div>
        </dl>
        <p class="faint">
          <span class="key seats">seats</span> <span class="key then">wanted then</span> A seat is used by an
          account for which <code>{{ one.takes }}</code>.
        </p>
        <table v-if="one.waiting.length" class="plain">
          <thead>
            <tr>
              <th>In line</th>
              <th>Who</th>
              <th>By</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(who, at) in one.waiting" :key="who.identity">
              <td>{{ at + 1 }}</td>
              <td>
                <RouterLink :to="{ name: 'identity', params: { id: who.identity } }">{{
                  who.label
                }}</RouterLink>
              </td>
              <td>{{ who.order }}</td>
            </tr>
          </tbody>
        </table>
      </section>
      <p v-if="data.length" class="faint">
        Who waits goes by themselves when somebody gives a seat back. More seats are said in
        <code>licences.toml</code>.
      </p>
    </template>
  </Fetched>
</template>

<style scoped>
.title {
  margin: 0;
}
.bar {
  position: relative;
  height: 0.9rem;
  margin: 0.9rem 0 0.6rem;
  border-radius: 0.3rem;
  background: var(--line);
}
.used {
  height: 100%;
  border-radius: 0.3rem;
  background: var(--calm);
}
.limit,
.wanted {
  position: absolute;
  top: -0.25rem;
  bottom: -0.25rem;
  width: 0;
  border-left: 2px solid var(--ink);
}
.wanted {
  border-left: 2px dashed var(--wait);
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 2.4rem;
  margin: 0 0 0.4rem;
}
.facts dt {
  color: var(--faint);
}
.facts dd {
  margin: 0;
}
.key {
  margin-right: 0.9rem;
  padding-left: 0.4rem;
}
.seats {
  border-left: 2px solid var(--ink);
}
.then {
  border-left: 2px dashed var(--wait);
}
.bad {
  color: var(--bad);
}
</style>
