<template>
  <span v-if="m" class="measure" :class="{ rows: !known?.field }">
    <ElSelect :model-value="m.of" size="small" :aria-label="`function of ${name}`" @update:model-value="choose({ of: String($event) })">
      <ElOption v-for="a in aggregates" :key="a.name" :value="a.name" :label="a.name"><strong class="named">{{ a.name }}</strong><span class="soft">{{ a.about }}</span></ElOption>
    </ElSelect>
    <ElSelect v-if="known?.field" :model-value="m.field" size="small" filterable :aria-label="`field of ${name}`" @update:model-value="choose({ field: String($event) })">
      <ElOption v-for="f in fields" :key="f.name" :value="f.name" :label="f.name"><span class="named">{{ f.name }}</span><span class="soft">{{ f.type }}</span></ElOption>
    </ElSelect>
    <DraftInput v-if="known?.beside" :value="m.beside" :placeholder="known.beside" :aria-label="`number of ${name}`" @change="choose({ beside: $event })" />
    <DraftInput :value="m.condition" class="mono" placeholder="of all rows, or if …" :aria-label="`condition of ${name}`" @change="choose({ condition: $event })" />
  </span>
  <DraftInput v-else :value="text" class="mono" :aria-label="`measure ${name}`" @change="emit('change', $event)" />
</template>

<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { computed } from 'vue'

import type { Field } from '../document/match'
import { aggregates, measureOf, textOf, type Measure } from '../document/measure'
import DraftInput from './DraftInput.vue'

const props = defineProps<{
  name: string
  /** The expression as it stands in the document. */
  text: string
  /** The fields of what the step reads. */
  fields: Field[]
}>()
const emit = defineEmits<{ change: [expression: string] }>()

/** What is chosen; null where the expression is more than one call. */
const m = computed(() => measureOf(props.text))
const known = computed(() => aggregates.find((a) => a.name === m.value?.of))
function choose(part: Partial<Measure>) {
  const next = { ...m.value!, ...part }
  const of = aggregates.find((a) => a.name === next.of)!
  // Another function goes on with the field, where it takes one: the first number where there was none.
  if (of.field && !next.field) next.field = (props.fields.find((f) => ['double', 'int', 'decimal'].includes(f.type)) ?? props.fields[0])?.name ?? 'field'
  if (part.of) next.beside = ''
  emit('change', textOf(next))
}
</script>

<style scoped>
.measure { display: grid; grid-template-columns: 116px minmax(0, 1fr) minmax(0, 1.3fr); grid-auto-flow: column; grid-auto-columns: 64px; gap: 4px; min-width: 0; }
.measure.rows { grid-template-columns: 116px minmax(0, 1fr); }
.named { margin-right: 8px; }
</style>
