<script setup lang="ts">
import { ElOption, ElSelect } from "element-plus";
import { ref, watch } from "vue";

import { api, type Site } from "@/api/client";

// A site, found among any number of them as one types.
const props = defineProps<{ id: string; account?: string }>();
const chosen = defineModel<string>({ required: true });
const emit = defineEmits<{ found: [site: Site | undefined] }>();
const sites = ref<Site[]>([]);
const searching = ref(false);
let turn = 0;

async function search(text = "") {
  const mine = ++turn;
  searching.value = true;
  try {
    const { rows } = await api.sites({ account: props.account, text, limit: "30" });
    if (mine === turn) sites.value = rows;
  } finally {
    if (mine === turn) searching.value = false;
  }
}

watch(chosen, (name) =>
  emit(
    "found",
    sites.value.find((site) => site.name === name),
  ),
);
</script>

<template>
  <ElSelect
    :id="id"
    v-model="chosen"
    filterable
    remote
    remote-show-suffix
    :remote-method="search"
    :loading="searching"
    placeholder="Type a part of its name"
    no-data-text="No site has that in its name."
    @focus="search()"
  >
    <ElOption
      v-for="site in sites"
      :key="site.name"
      :label="account ? site.name : `${site.name} (${site.account})`"
      :value="site.name"
    />
  </ElSelect>
</template>
