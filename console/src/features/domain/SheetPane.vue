<script setup lang="ts">
import { ElButton, ElMessageBox } from "element-plus";
import { ref, watch } from "vue";

import { api, type Claim, Problem, type SheetView } from "@/api/client";
import HandoffLinks from "@/features/handoff/HandoffLinks.vue";
import PublishPanel from "@/features/publish/PublishPanel.vue";
import { useSession } from "@/stores/session";

import SheetChoices from "./SheetChoices.vue";

const props = defineProps<{ claim: Claim }>();
const session = useSession();
const view = ref<SheetView | null>(null);
const revealed = ref(false);
const copied = ref("");
const error = ref("");
const mayEdit = session.who?.role !== "viewer";

const KINDS = [
  ["text/plain", "text for a mail"],
  ["text/markdown", "Markdown"],
  ["text/csv", "CSV"],
  ["text/dns", "zone-file lines"],
] as const;

async function attempt(what: () => Promise<void>) {
  error.value = "";
  try {
    await what();
  } catch (problem) {
    if (!(problem instanceof Problem)) throw problem;
    error.value = problem.message;
  }
}

const read = () =>
  attempt(async () => {
    view.value = await api.sheet(props.claim, revealed.value);
  });

const copy = (kind: string, words: string) =>
  attempt(async () => {
    await navigator.clipboard.writeText(await api.sheetAs(props.claim, kind));
    copied.value = words;
    window.setTimeout(() => (copied.value = ""), 2000);
  });

async function rotate() {
  const question =
    "The customer must publish the new token; the one on the old sheet proves nothing any more.";
  const sure = await ElMessageBox.confirm(question, "Replace the token?", {
    confirmButtonText: "Replace it",
    cancelButtonText: "Leave it",
  }).catch(() => null);
  if (!sure) return;
  await attempt(async () => {
    view.value = await api.rotate(props.claim);
    revealed.value = true;
  });
}

watch(() => [props.claim, revealed.value], read, { immediate: true });
</script>

<template>
  <p v-if="error" role="alert" class="error">{{ error }}</p>
  <div v-if="view">
    <div v-if="mayEdit" class="tools">
      <ElButton @click="revealed = !revealed">
        {{ revealed ? "Mask the token" : "Show the token" }}
      </ElButton>
      <ElButton @click="rotate">Replace the token</ElButton>
      <span class="soft">The token is good until {{ view.token_expires_at.slice(0, 10) }}.</span>
      <span class="copies">
        <span class="soft" aria-live="polite">{{
          copied ? `Copied as ${copied}` : "Copy as"
        }}</span>
        <ElButton v-for="[kind, words] in KINDS" :key="kind" text @click="copy(kind, words)">
          {{ words }}
        </ElButton>
      </span>
    </div>
    <SheetChoices :sheet="view" :headings="view.headings" />
    <template v-if="view.pair">
      <h2>
        The other of the pair, {{ view.pair.sheet.routed
        }}{{ view.pair.is_primary ? ", the primary" : "" }}
      </h2>
      <SheetChoices :sheet="view.pair.sheet" :headings="view.headings" />
    </template>
    <HandoffLinks :host="claim.host" :account="claim.account" />
    <PublishPanel :claim="claim" />
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: var(--step);
  align-items: center;
  margin-bottom: calc(var(--step) * 3);
}

.tools .el-button + .el-button {
  margin-left: 0;
}

.copies .el-button {
  padding: 8px;
  color: var(--act);
}

.copies {
  display: flex;
  align-items: center;
  margin-left: auto;
}

.error {
  color: var(--blocked);
}
</style>
