import { ref } from 'vue'
import type { Rule } from './rules'

/** The draft of the rules, shared by what-if and replay; null = the rules as they stand. */
export const keptDraft = ref<Rule[] | null>(null)
