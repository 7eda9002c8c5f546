<script setup lang="ts">
import { ElOption, ElSelect } from "element-plus";
import { ref, watch } from "vue";

import { api, type Language, type NoticeKind, type WrittenMail } from "@/api/client";
import { LANGUAGES } from "@/lib/languages";

import { KINDS } from "./kinds";

// Mails as they would be written, with the templates that are in force.
const kind = ref<NoticeKind>("live");
const language = ref<Language>("en");
const mail = ref<WrittenMail>();

watch(
  [kind, language],
  async () => (mail.value = await api.previewMail(kind.value, language.value)),
  { immediate: true },
);
</script>

<template>
  <p class="chosen">
    <ElSelect v-model="kind" aria-label="What happened">
      <ElOption v-for="(words, one) in KINDS" :key="one" :value="one" :label="words" />
    </ElSelect>
    <ElSelect v-model="language" aria-label="Language">
      <ElOption v-for="(words, one) in LANGUAGES" :key="one" :value="one" :label="words" />
    </ElSelect>
  </p>
  <article v-if="mail" :dir="language === 'ar' ? 'rtl' : 'ltr'" :lang="language">
    <h2>{{ mail.subject }}</h2>
    <pre>{{ mail.text }}</pre>
  </article>
  <p class="soft">
    As HTML: <code class="record">nomenta notice preview {{ kind }} --html</code>. Other templates:
    <code class="record">serve --mail-templates FOLDER</code>.
  </p>
</template>

<style scoped>
.chosen {
  display: flex;
  flex-wrap: wrap;
  gap: calc(var(--step) * 2);
}

.el-select {
  width: 260px;
}

article {
  max-width: 680px;
  margin-block: calc(var(--step) * 2);
  padding: calc(var(--step) * 2);
  border: 1px solid var(--hairline);
  background: var(--sheet);
}

pre {
  font: inherit;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
