<template>
  <ElDropdown v-for="m in menus(described.data.value?.items ?? [])" :key="m.name" trigger="click" size="small" :teleported="false" @command="(kind: string) => take(m.name, kind)">
    <button type="button" class="add">{{ m.name }}</button>
    <template #dropdown>
      <ElDropdownMenu>
        <ElDropdownItem v-for="k in m.kinds" :key="k.name" :command="k.name"><strong class="named">{{ k.name }}</strong><span class="soft">{{ k.about }}</span></ElDropdownItem>
      </ElDropdownMenu>
    </template>
  </ElDropdown>
</template>

<script setup lang="ts">
import { ElDropdown, ElDropdownItem, ElDropdownMenu } from 'element-plus'
import { ref } from 'vue'

import { add, menus } from '../document/add'
import type { Field } from '../document/match'
import type { ListOf } from '../http'
import { loadKinds } from '../use/kinds'
import { useResource } from '../use/resource'

const props = defineProps<{
  text: string
  /** The fields of a source or step, as far as they are known. */
  fields: (name: string) => Field[]
}>()
const emit = defineEmits<{
  change: [text: string]
  /** The part that was added, as the map names it. */
  choose: [name: string]
}>()

void loadKinds()
const connections = useResource<ListOf<'Connection'>>(ref('/connections'))
const described = useResource<ListOf<'Described'>>(ref('/sources'))

function take(menu: string, kind: string) {
  const added = add(props.text, menu, kind, { fields: props.fields, described: described.data.value?.items ?? [], connections: connections.data.value?.items ?? [] })
  if (added.text === props.text) return
  emit('change', added.text)
  emit('choose', added.part)
}
</script>

<style scoped>
.named { margin-right: 8px; }
.add { border: 0; background: none; color: var(--sea); font: inherit; cursor: pointer; padding: 0 2px; text-decoration: underline; }
</style>
