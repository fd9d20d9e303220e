import { defineStore } from 'pinia'
import { ref } from 'vue'

/** Why no page can be shown: the service does not answer, or a part of the console could not be loaded. */
export const useTrouble = defineStore('trouble', () => {
  const text = ref<string | null>(null)
  return { text }
})
