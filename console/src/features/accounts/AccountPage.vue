<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";

import { api, listing, Problem, type Account, type RosterLine, type Site } from "@/api/client";
import GatePosts from "@/components/GatePosts.vue";
import { useLive } from "@/composables/useLive";
import { useNow } from "@/composables/useNow";
import HandoffLinks from "@/features/handoff/HandoffLinks.vue";
import { used } from "@/lib/account";
import { exact, since } from "@/lib/time";
import { useSession } from "@/stores/session";

import AccountDialog from "./AccountDialog.vue";
import AddSiteDialog from "./AddSiteDialog.vue";
import RenameDialog from "./RenameDialog.vue";

const props = defineProps<{ name: string }>();
const account = ref<Account | null>(null);
const sites = ref<Site[]>([]);
const domains = ref<RosterLine[]>([]);
const more = ref(false);
const error = ref("");
const busy = ref(false);
const changing = ref(false);
const adding = ref(false);
const renaming = ref<Site | null>(null);
const session = useSession();
const now = useNow();
const mayChange = computed(() => session.mayAdminister);

async function reload() {
  try {
    const [read, all, roster] = await Promise.all([
      api.account(props.name),
      api.sites(listing("sites", { account: props.name })),
      api.roster(listing("domains", { account: props.name })),
    ]);
    account.value = read;
    sites.value = all.rows;
    domains.value = roster.rows;
    more.value = roster.next !== undefined;
    error.value = "";
  } catch (problem) {
    if (!(problem instanceof Problem) || problem.passing) throw problem;
    error.value = problem.message;
  }
}

async function rest() {
  busy.value = true;
  const asked = account.value?.suspended_at ? api.unsuspend(props.name) : api.suspend(props.name);
  await asked.finally(() => (busy.value = false));
  await reload();
}

useLive(() => true, reload);
</script>

<template>
  <section v-if="account" class="page" :data-suspended="Boolean(account.suspended_at)">
    <header>
      <h1>{{ account.title }}</h1>
      <span class="soft">{{ account.name }}</span>
      <span v-if="account.suspended_at" class="suspended" :title="exact(account.suspended_at)">
        suspended {{ since(account.suspended_at, now) }}: its routes are withdrawn
      </span>
      <span v-if="mayChange" class="tools">
        <ElButton @click="changing = true">Change</ElButton>
        <ElButton text :loading="busy" @click="rest">{{
          account.suspended_at ? "Resume" : "Suspend"
        }}</ElButton>
      </span>
    </header>
    <dl>
      <dt>Domains</dt>
      <dd>{{ used(account) }}</dd>
      <dt>Contact</dt>
      <dd>{{ account.contact ?? "none" }}</dd>
      <dt>Language</dt>
      <dd>{{ account.language }}</dd>
      <template v-if="account.notes">
        <dt>Notes</dt>
        <dd>{{ account.notes }}</dd>
      </template>
    </dl>
    <h2>
      Sites
      <ElButton v-if="mayChange" text @click="adding = true">Add a site</ElButton>
    </h2>
    <table>
      <thead>
        <tr>
          <th scope="col">Site</th>
          <th scope="col">Default host</th>
          <th scope="col">Ingress</th>
          <th scope="col">Entered at</th>
          <th v-if="mayChange" scope="col"><span class="hidden">Change</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="site in sites" :key="site.name">
          <td>{{ site.name }}</td>
          <td class="record">
            {{ site.default_host }}
            <div v-for="host in site.former_hosts" :key="host" class="soft">
              {{ host }} leads there
            </div>
          </td>
          <td>{{ site.ingress }}</td>
          <td class="record">{{ site.entry_path }}</td>
          <td v-if="mayChange"><ElButton text @click="renaming = site">Rename</ElButton></td>
        </tr>
      </tbody>
    </table>
    <h2>Domains</h2>
    <table v-if="domains.length">
      <thead>
        <tr>
          <th scope="col">Domain</th>
          <th scope="col">Site</th>
          <th scope="col">Gates</th>
          <th scope="col">Stage</th>
          <th scope="col">Findings</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="line in domains"
          :key="line.host"
          :data-host="line.host"
          :data-stage="line.stage"
        >
          <td>
            <RouterLink
              class="record"
              :to="{ name: 'domain', params: { host: line.host }, query: { account: name } }"
              >{{ line.shown }}</RouterLink
            >
          </td>
          <td>{{ line.site }}</td>
          <td><GatePosts :gates="line.gates" /></td>
          <td>{{ line.stage }}</td>
          <td class="finding">{{ line.findings.join(", ") }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else class="soft">No domain of this account is on the platform.</p>
    <p v-if="more" class="soft">
      These are the first {{ domains.length }}; the roster has them all.
    </p>
    <HandoffLinks :account="name" />
    <AccountDialog v-model="changing" :account="account" @changed="reload" />
    <RenameDialog v-model="renaming" @renamed="reload" />
    <AddSiteDialog v-model="adding" :account="name" @added="reload" />
  </section>
  <section v-else-if="error" class="page">
    <p>{{ error }} <RouterLink :to="{ name: 'accounts' }">Back to the accounts</RouterLink></p>
  </section>
</template>

<style scoped>
header {
  display: flex;
  flex-wrap: wrap;
  gap: calc(var(--step) * 2);
  align-items: baseline;
}

.tools {
  margin-left: auto;
}

.suspended,
.finding {
  color: var(--blocked);
}

dl {
  display: grid;
  grid-template-columns: 110px 1fr;
  gap: 4px calc(var(--step) * 2);
  margin: 0;
}

dt {
  color: var(--ink-soft);
}

dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
