<script setup lang="ts">
import { computed } from 'vue'
import { api, take } from '@/api/client'
import type { components } from '@/api/schema'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import { plural } from '@/words'

type LicenseUsage = components['schemas']['LicenseUsage']

/** Licenses: seats in use, the waiting list, and the forecast. */
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/licenses')),
  (event) => event.event === 'change_set' || event.event === 'attention_changed',
)
const sentence = computed(() => {
  const all = data.value ?? []
  if (!all.length) return { text: 'No licenses yet. licenses.toml declares them.', tone: '' }
  const waiting = all.reduce((sum, one) => sum + one.waiting_count, 0)
  const short = all.filter((one) => (one.forecast?.needed ?? 0) > one.seats)
  if (waiting)
    return {
      text: waiting === 1 ? '1 person is waiting for a seat.' : `${waiting} people are waiting for a seat.`,
      tone: 'wait',
    }
  const first = short[0]
  if (first?.forecast)
    return {
      text: `${first.name} will be ${plural(first.forecast.needed - first.seats, 'seat')} short within ${first.ahead_days} days.`,
      tone: 'wait',
    }
  if (all.some((one) => !one.forecast)) return { text: 'There are enough seats now.', tone: 'good' }
  return { text: 'There are enough seats, now and in the forecast.', tone: 'good' }
})
/** A width as a share of the largest number. */
const width = (one: LicenseUsage, part: number) =>
  `${(100 * part) / Math.max(one.seats, one.used, one.forecast?.needed ?? 0, 1)}%`
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
          :aria-label="`${one.used} of ${one.seats} seats are in use${one.forecast ? `; ${one.forecast.needed} are needed in ${one.ahead_days} days` : ''}`"
        >
          <div class="used" :style="{ width: width(one, one.used) }"></div>
          <div class="limit" :style="{ left: width(one, one.seats) }"></div>
          <div v-if="one.forecast" class="needed" :style="{ left: width(one, one.forecast.needed) }"></div>
        </div>
        <dl class="facts">
          <div>
            <dt>In use</dt>
            <dd>
              <strong>{{ one.used }}</strong> of {{ one.seats }}
            </dd>
          </div>
          <div>
            <dt>Waiting</dt>
            <dd :class="{ bad: one.waiting_count }">
              <strong>{{ one.waiting_count }}</strong>
            </dd>
          </div>
          <div v-if="one.forecast">
            <dt>Joiners within {{ one.ahead_days }} days</dt>
            <dd>
              <strong>{{ one.forecast.starting }}</strong>
            </dd>
          </div>
          <div v-if="one.forecast">
            <dt>Leavers within {{ one.ahead_days }} days</dt>
            <dd>
              <strong>{{ one.forecast.leaving }}</strong>
            </dd>
          </div>
          <div v-if="one.forecast">
            <dt>Needed in {{ one.ahead_days }} days</dt>
            <dd :class="{ bad: one.forecast.needed > one.seats }">
              <strong>{{ one.forecast.needed }}</strong>
              <span v-if="one.forecast.needed > one.seats">
                · {{ one.forecast.needed - one.seats }} too many</span
              >
            </dd>
          </div>
        </dl>
        <p class="faint">
          <span class="key seats">seats</span>
          <span v-if="one.forecast" class="key then">needed in {{ one.ahead_days }} days</span>
          <span v-else
            >Too many people change within {{ one.ahead_days }} days for a forecast: preview a day
            instead.</span
          >
          An account uses a seat if
          <code>{{ one.consumed_when }}</code>.
        </p>
        <table v-if="one.waiting.length" class="plain">
          <thead>
            <tr>
              <th>Position</th>
              <th>Person</th>
              <th>Order</th>
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
        Waiting people get a seat automatically when one is freed. Set the number of seats in
        <code>licenses.toml</code>.
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
.needed {
  position: absolute;
  top: -0.25rem;
  bottom: -0.25rem;
  width: 0;
  border-left: 2px solid var(--ink);
}
.needed {
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
