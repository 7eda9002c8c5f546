<script setup lang="ts">
import { ElButton } from "element-plus";

import { api, type Session } from "@/api/client";
import { useNow } from "@/composables/useNow";
import { usePages } from "@/composables/usePages";
import { exact, span } from "@/lib/time";

// Who is signed in to the console, and from where.
const now = useNow();
const { rows, more, loaded, reload, showMore } = usePages<Session>(
  () => "sessions",
  api.sessions,
  () => false,
);

async function end(session: Session) {
  await api.endSession(session.id);
  await reload();
}
const ago = (at: string) => `${span(now.value - Date.parse(at))} ago`;
</script>

<template>
  <table v-if="rows.length">
    <thead>
      <tr>
        <th scope="col">Key</th>
        <th scope="col">From</th>
        <th scope="col">Signed in</th>
        <th scope="col">Last use</th>
        <th scope="col">Ends by itself</th>
        <th scope="col"></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="session in rows" :key="session.id">
        <td>{{ session.key }}</td>
        <td class="record">{{ session.from }}</td>
        <td :title="exact(session.created_at)">{{ ago(session.created_at) }}</td>
        <td :title="exact(session.used_at)">{{ ago(session.used_at) }}</td>
        <td :title="exact(session.expires_at)">
          in {{ span(Date.parse(session.expires_at) - now) }}
        </td>
        <td>
          <span v-if="session.is_own" class="soft">your own</span>
          <ElButton v-else link type="danger" @click="end(session)">End it</ElButton>
        </td>
      </tr>
    </tbody>
  </table>
  <p v-else-if="loaded" class="soft">Nobody is signed in.</p>
  <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
</template>
