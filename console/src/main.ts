import { createPinia } from 'pinia'
import PrimeVue from 'primevue/config'
import ToastService from 'primevue/toastservice'
import 'primeicons/primeicons.css'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'
import './style.css'
import { Harbour } from './theme'

createApp(App)
  .use(createPinia())
  .use(router)
  .use(PrimeVue, { theme: { preset: Harbour, options: { darkModeSelector: 'system' } } })
  .use(ToastService)
  .mount('#app')
