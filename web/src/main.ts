import { VueQueryPlugin } from '@tanstack/vue-query'
import { createApp } from 'vue'
import { queries } from './api/cache'
import App from './app/App.vue'
import { router } from './app/router'
import './style.css'

createApp(App).use(router).use(VueQueryPlugin, { queryClient: queries }).mount('#app')
