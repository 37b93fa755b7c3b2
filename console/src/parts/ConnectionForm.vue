<template>
  <ElDialog :model-value="true" :title="connection ? `Change ${connection.name}` : 'Add a connection'" width="560px" @close="emit('close')">
    <div class="form">
      <label for="c-name">name</label><ElInput id="c-name" v-model="form.name" :disabled="connection !== null" placeholder="port" />
      <label for="c-brokers">brokers</label><ElInput id="c-brokers" v-model="form.brokers" placeholder="10.0.0.5:9092, 10.0.0.6:9092" />
      <label for="c-tls">way</label><ElSelect id="c-tls" v-model="form.way"><ElOption value="clear" label="in the clear" /><ElOption value="tls" label="TLS" /></ElSelect>
      <template v-if="form.way === 'tls'">
        <label for="c-ca">authority (PEM)</label><ElInput id="c-ca" v-model="form.ca" type="textarea" :rows="2" placeholder="empty: the system's authorities" />
        <label for="c-server">name in its certificate</label><ElInput id="c-server" v-model="form.serverName" placeholder="empty: the broker's address" />
      </template>
      <label for="c-mechanism">sign-in</label>
      <ElSelect id="c-mechanism" v-model="form.mechanism">
        <ElOption value="" label="nobody signs in" /><ElOption value="plain" label="plain" /><ElOption value="scram-sha-256" label="scram-sha-256" /><ElOption value="scram-sha-512" label="scram-sha-512" />
      </ElSelect>
      <template v-if="form.mechanism">
        <label for="c-user">user</label><ElInput id="c-user" v-model="form.user" />
        <label for="c-password">password</label><ElInput id="c-password" v-model="form.password" type="password" autocomplete="new-password" :placeholder="connection?.sasl ? 'unchanged' : ''" />
        <span /><span class="soft small">It is sealed as the secret {{ secretName }}, and never shown again.</span>
      </template>
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
import { computed, reactive } from 'vue'

import { useAsked } from '../use/asked'
import { connections, secrets, type Connection } from '../use/streams'

const props = defineProps<{
  /** The connection that is changed; null for a new one. */
  connection: Connection | null
}>()
const emit = defineEmits<{ close: []; stored: [name: string] }>()

const c = props.connection
const form = reactive({
  name: c?.name ?? '', brokers: c?.brokers.join(', ') ?? '', way: c?.tls ? 'tls' : 'clear', ca: c?.tls?.ca ?? '', serverName: c?.tls?.server_name ?? '',
  mechanism: c?.sasl?.mechanism ?? '', user: c?.sasl?.user ?? '', password: '',
})
const secretName = computed(() => /\$\{secret\.([^}]+)\}/.exec(c?.sasl?.password ?? '')?.[1] ?? (form.name || 'NAME'))

const storing = useAsked(async () => {
  if (form.mechanism && form.password) await secrets.put(secretName.value, form.password)
  return connections.put(form.name.trim(), {
    via: 'kafka',
    brokers: form.brokers.split(',').map((b) => b.trim()).filter(Boolean),
    tls: form.way === 'tls' ? { ca: form.ca || undefined, server_name: form.serverName || undefined, cert: c?.tls?.cert, key: c?.tls?.key } : null,
    sasl: form.mechanism ? { mechanism: form.mechanism, user: form.user, password: form.password || !c?.sasl ? `\${secret.${secretName.value}}` : c.sasl.password } : null,
  })
})
async function store() {
  if (await storing.ask()) emit('stored', form.name.trim())
}
</script>

<style scoped>
.form { display: grid; grid-template-columns: 140px minmax(0, 1fr); gap: 8px; align-items: center; margin-bottom: 10px; }
.small { font-size: 11.5px; }
</style>
