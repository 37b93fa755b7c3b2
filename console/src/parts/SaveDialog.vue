<template>
  <ElDialog :model-value="true" :title="`What changed since version ${from} of ${job}`" width="min(820px, 92vw)" @close="emit('close')">
    <p v-if="!lines.length">Nothing: the text is that of the version.</p>
    <p v-else class="soft">{{ number.added }} {{ number.added === 1 ? 'line' : 'lines' }} added, {{ number.removed }} removed.</p>
    <pre v-if="lines.length" class="mono" tabindex="0" aria-label="Changed lines"><span v-for="(l, i) in lines" :key="i" :class="{ plus: l.sign === '+', minus: l.sign === '-', soft: l.sign === '…' }">{{ l.sign }} {{ l.text }}
</span></pre>
    <template #footer>
      <ElButton @click="emit('close')">Back</ElButton>
      <ElButton type="primary" :loading="busy" @click="emit('save')">Save as version {{ Number(from) + 1 }}</ElButton>
    </template>
  </ElDialog>
</template>

<script setup lang="ts">
import { ElButton, ElDialog } from 'element-plus'
import { computed } from 'vue'

import { changes, countOf } from '../document/changes'

const props = defineProps<{
  job: string
  /** The number of the version that the text was made of. */
  from: string
  before: string
  after: string
  busy: boolean
}>()
const emit = defineEmits<{ save: []; close: [] }>()

const lines = computed(() => changes(props.before, props.after))
const number = computed(() => countOf(lines.value))
</script>

<style scoped>
pre { max-height: 50vh; overflow: auto; margin: 8px 0 0; }
.plus { color: var(--sea); background: var(--sea-soft); }
.minus { color: var(--brick); background: var(--brick-soft); }
</style>
