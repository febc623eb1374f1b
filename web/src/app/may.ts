/** What whoever is signed in may do, as the server said at sign-in; it decides, this only spares them what it would refuse. */
import { ref } from 'vue'
import type { Schema } from '@/api/client'

export type Permission = Schema<'Permission'>
const granted = ref<ReadonlySet<Permission>>(new Set())
/** They work for some stores, suppliers or categories alone. */
export const limited = ref(false)

export function take(here: Schema<'Here'>): void {
  granted.value = new Set(here.permissions)
  limited.value = here.limited
}
export const may = (...asked: Permission[]): boolean => asked.every((one) => granted.value.has(one))
