<script setup lang="ts">
import { ElButton, ElInput } from "element-plus";
import { computed, ref } from "vue";

import { api, type Claim, Problem, type Rehearsal } from "@/api/client";
import { download } from "@/lib/download";
import { useSession } from "@/stores/session";

import EditTable from "./EditTable.vue";

// Judging a zone file before the customer changes anything.
const props = defineProps<{ claim: Claim }>();
const session = useSession();
const zone = ref("");
const judged = ref<Rehearsal | null>(null);
const error = ref("");
const wrongLine = ref<{ number: number; text: string } | null>(null);
const busy = ref(false);
const mayReveal = session.who?.role !== "viewer";

const changes = computed(() => judged.value?.todo.some((edit) => edit.kind !== "keep") ?? false);
const lines = (list: number[]) =>
  list.length ? `, line${list.length > 1 ? "s" : ""} ${list.join(", ")}` : "";

// A file is judged by its octets: what in them is no text is for the service to say.
async function rehearse(file?: File) {
  if (!file && !zone.value.trim()) {
    judged.value = null;
    error.value = "Paste the zone file first: the whole export of the DNS editor.";
    return;
  }
  busy.value = true;
  error.value = "";
  wrongLine.value = null;
  try {
    judged.value = await api.rehearse(props.claim, file ?? zone.value, mayReveal);
  } catch (problem) {
    if (!(problem instanceof Problem)) throw problem;
    judged.value = null;
    error.value = problem.fields.zone ?? problem.message;
    if (problem.line) {
      wrongLine.value = {
        number: problem.line,
        text: zone.value.split("\n")[problem.line - 1] ?? "",
      };
    }
  } finally {
    busy.value = false;
  }
}

async function take(event: globalThis.Event) {
  const file = (event.target as HTMLInputElement).files?.[0];
  if (!file) return;
  zone.value = await file.text();
  await rehearse(file);
}
</script>

<template>
  <label for="zone">
    Paste the zone as its DNS editor exports it. Nothing is changed, and nothing is kept.
  </label>
  <ElInput
    id="zone"
    v-model="zone"
    type="textarea"
    :rows="9"
    :class="{ wrong: error }"
    spellcheck="false"
    placeholder="$ORIGIN onswick.example.
@ 3600 IN SOA …"
  />
  <div v-if="error" role="alert" class="error">
    {{ error }}
    <pre v-if="wrongLine" class="record">{{ wrongLine.number }}  {{ wrongLine.text }}</pre>
  </div>
  <div class="tools">
    <ElButton type="primary" :loading="busy" @click="rehearse()">Rehearse</ElButton>
    <label class="file">or take a file <input type="file" @change="take" /></label>
  </div>
  <div v-if="judged" class="judged" data-rehearsed>
    <p>
      {{ judged.records }} records of the zone {{ judged.zone }}.
      <strong v-if="!changes && judged.passes">It would pass as it is.</strong>
      <strong v-else-if="judged.passes">With these changes it passes ownership and routing.</strong>
      <strong v-else>These changes alone are not enough.</strong>
    </p>
    <article v-for="found in judged.findings" :key="found.code" :data-code="found.code">
      <h3>
        {{ found.code }}<span class="soft">{{ lines(found.lines) }}</span>
      </h3>
      <p>{{ found.remedy }}</p>
    </article>
    <template v-if="changes">
      <h3>In this order</h3>
      <EditTable :edits="judged.todo" />
      <div class="tools">
        <ElButton @click="download(`${judged.zone}.zone`, judged.amended)">
          Save the amended zone
        </ElButton>
        <span class="soft">Everything else in it is as it was.</span>
      </div>
      <p v-for="note in judged.notes" :key="note" class="soft">{{ note }}</p>
      <pre class="record amended">{{ judged.amended }}</pre>
    </template>
    <p v-for="left in judged.left" :key="left.code">
      <strong>{{ left.code }} stays.</strong> {{ left.remedy }}
    </p>
  </div>
</template>

<style scoped>
label {
  display: block;
  margin-bottom: var(--step);
}

.file {
  margin: 0;
}

.file input {
  font-family: inherit;
  font-size: 14px;
}

article h3 span {
  font-family: var(--prose);
  font-weight: 400;
}

:deep(textarea) {
  font-family: var(--mono);
  font-size: 14px;
}

.wrong :deep(textarea) {
  box-shadow: 0 0 0 1px var(--blocked) inset;
}

.error {
  margin-top: var(--step);
  color: var(--blocked);
}

.tools {
  display: flex;
  gap: calc(var(--step) * 2);
  align-items: center;
  margin: calc(var(--step) * 2) 0;
}

article {
  padding: var(--step) 0 var(--step) calc(var(--step) * 2);
  border-left: 4px solid var(--blocked);
  margin-bottom: calc(var(--step) * 2);
}

article h3 {
  font-family: var(--mono);
  font-size: 16px;
}

article p {
  max-width: 76ch;
  margin: var(--step) 0 0;
  overflow-wrap: anywhere;
}

.amended {
  max-height: 320px;
  overflow: auto;
  padding: calc(var(--step) * 2);
  border: 1px solid var(--hairline);
  background: var(--sheet);
}
</style>
