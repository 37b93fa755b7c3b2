<template>
  <ElInput v-model="own" size="small" @change="emit('change', own)" />
</template>

<script setup lang="ts">
import { ElInput } from 'element-plus'
import { ref, watch } from 'vue'

const props = defineProps<{
  /** What stands in the document. */
  value: string
}>()
const emit = defineEmits<{
  /** Once it is written: on Enter, or when the field is left. */
  change: [value: string]
}>()
const own = ref(props.value)
watch(() => props.value, (v) => (own.value = v))
</script>
