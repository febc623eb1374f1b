import { QueryClient, VueQueryPlugin } from '@tanstack/vue-query'
import { createApp } from 'vue'
import App from './app/App.vue'
import { router } from './app/router'
import './style.css'

export const queries = new QueryClient({
  defaultOptions: { queries: { staleTime: 5_000, retry: 1, retryDelay: 300, refetchOnWindowFocus: true } },
})

createApp(App).use(router).use(VueQueryPlugin, { queryClient: queries }).mount('#app')
