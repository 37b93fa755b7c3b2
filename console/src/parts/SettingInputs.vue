<template>
  <template v-for="s in settings" :key="s.name">
    <label :for="id(s)" :title="s.about">{{ s.label }}</label>
    <template v-if="s.type === 'group'">
      <ElSelect :id="id(s)" :model-value="group(s) ? 'yes' : 'no'" @update:model-value="open(s, $event === 'yes')">
        <ElOption value="no" label="no" /><ElOption value="yes" label="yes" />
      </ElSelect>
      <SettingInputs v-if="group(s)" :settings="s.settings" :model-value="group(s)!" :within="id(s)" :secret="secret" :stored="stored" />
    </template>
    <ElSelect v-else-if="s.type === 'choice'" :id="id(s)" :model-value="text(s)" @update:model-value="put(s, $event)"><ElOption v-for="c in s.choices" :key="c" :value="c" :label="c" /></ElSelect>
    <ElSelect v-else-if="s.type === 'bool'" :id="id(s)" :model-value="text(s)" @update:model-value="put(s, $event)"><ElOption value="true" label="true" /><ElOption value="false" label="false" /></ElSelect>
    <template v-else-if="s.type === 'secret'">
      <ElInput :id="id(s)" :model-value="text(s)" type="password" autocomplete="new-password" :placeholder="stored ? 'unchanged' : ''" @update:model-value="put(s, $event)" />
      <span /><span class="soft small">It is sealed as the secret {{ secret }}, and never shown again.</span>
    </template>
    <ElInput v-else-if="s.type === 'pem'" :id="id(s)" :model-value="text(s)" type="textarea" :rows="2" :placeholder="s.hint" @update:model-value="put(s, $event)" />
    <ElInput v-else :id="id(s)" :model-value="text(s)" :placeholder="s.hint" @update:model-value="put(s, $event)" />
  </template>
</template>

<script setup lang="ts">
import { ElInput, ElOption, ElSelect } from 'element-plus'

import type { Described } from '../use/kinds'
import { beginning, type Values } from '../use/settings'

const props = defineProps<{
  settings: Described[]
  /** The id of the group around it. */
  within: string
  /** The name of the secret that passwords are sealed as. */
  secret: string
  /** A password is stored already. */
  stored: boolean
}>()
/** What stands in the inputs, by name; groups within. Who has it sees each change. */
const values = defineModel<Values>({ required: true })

function id(s: Described): string {
  return `${props.within}-${s.name}`
}
function group(s: Described): Values | undefined {
  const v = values.value[s.name]
  return typeof v === 'object' ? v : undefined
}
function text(s: Described): string {
  const v = values.value[s.name]
  return typeof v === 'string' ? v : ''
}
function put(s: Described, v: unknown) {
  values.value[s.name] = String(v ?? '')
}
function open(s: Described, yes: boolean) {
  values.value[s.name] = yes ? beginning(s.settings) : ''
}
</script>

<style scoped>
.small { font-size: 11.5px; }
</style>
