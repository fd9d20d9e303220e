import { defineStore } from 'pinia'
import { ref } from 'vue'

/** Why no page can be shown: the service does not answer, or a page failed to load. */
export const useTrouble = defineStore('trouble', () => {
  const text = ref<string | null>(null)
  return { text }
})
