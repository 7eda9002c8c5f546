<script setup lang="ts">
import { ElOption, ElSelect } from "element-plus";
import { watch } from "vue";

import { api, listing, type Site } from "@/api/client";
import { useSought } from "@/composables/useSought";

// A site, found among any number of them as one types.
const props = defineProps<{ id: string; account?: string }>();
const chosen = defineModel<string>({ required: true });
const emit = defineEmits<{ found: [site: Site | undefined] }>();
const {
  found: sites,
  searching,
  none,
  search,
} = useSought<Site>(
  "site",
  (text) => listing("sites", { account: props.account, text, limit: "30" }),
  api.sites,
);

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
    :no-data-text="none"
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
