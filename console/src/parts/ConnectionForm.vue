<template>
  <ElDialog :model-value="true" :title="connection ? `Change ${connection.name}` : 'Add a connection'" width="560px" @close="emit('close')">
    <div class="form">
      <label for="c-name">name</label><ElInput id="c-name" v-model="name" :disabled="connection !== null" placeholder="port" />
      <label for="c-via">via</label>
      <ElSelect id="c-via" v-model="via" :disabled="connection !== null"><ElOption v-for="k in linked" :key="k.name" :value="k.name" :label="k.name" /></ElSelect>
      <SettingInputs v-if="kind?.connection" :model-value="values" :settings="kind.connection" within="c" :secret="secretName" :stored="reference !== ''" />
    </div>
    <div v-if="storing.problem.value" class="notice bad" role="alert">{{ storing.problem.value.detail }}; {{ storing.problem.value.fix }}.</div>
    <template #footer>
      <ElButton @click="emit('close')">Close</ElButton>
      <ElButton type="primary" :loading="storing.busy.value" @click="store">Store and test</ElButton>
    </template>
  </ElDialog>
</template>

<script setup lang="ts">
import { ElButton, ElDialog, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'

import { useAsked } from '../use/asked'
import { connector, kinds, loadKinds } from '../use/kinds'
import { beginning, shown, typed, written, type Values } from '../use/settings'
import { connections, type Connection } from '../use/streams'
import SettingInputs from './SettingInputs.vue'

const props = defineProps<{
  /** The connection that is changed; null for a new one. */
  connection: Connection | null
}>()
const emit = defineEmits<{ close: []; stored: [name: string] }>()

void loadKinds()
const linked = computed(() => kinds.value.connectors.filter((k) => k.connection))
const name = ref(props.connection?.name ?? '')
const via = ref(props.connection?.via ?? '')
const values = ref<Values>({})
const kind = computed(() => connector(via.value))
watch(
  linked,
  (list) => {
    via.value ||= (list.find((k) => k.lists) ?? list[0])?.name ?? '' // most are of streams that a connection lists
  },
  { immediate: true },
)
watch(
  kind,
  (k) => {
    if (k?.connection) values.value = props.connection ? shown(k.connection, props.connection.settings) : beginning(k.connection)
  },
  { immediate: true },
)
/** The secret that the connection names already; empty for none. */
const reference = computed(() => /\$\{secret\.([^}]+)\}/.exec(JSON.stringify(props.connection?.settings ?? {}))?.[1] ?? '')
const secretName = computed(() => reference.value || name.value || 'NAME')

const storing = useAsked(async () => {
  const list = kind.value?.connection ?? []
  const password = typed(list, values.value)
  return connections.put(name.value.trim(), {
    via: via.value,
    settings: written(list, values.value, () => `\${secret.${secretName.value}}`),
    ...(password ? { secrets: { [secretName.value]: password } } : {}), // stored for the addresses of this connection
  })
})
async function store() {
  if (await storing.ask()) emit('stored', name.value.trim())
}
</script>

<style scoped>
.form { display: grid; grid-template-columns: 140px minmax(0, 1fr); gap: 8px; align-items: center; margin-bottom: 10px; }
.small { font-size: 11.5px; }
</style>
