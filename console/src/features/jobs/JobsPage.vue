<script setup lang="ts">
import { ElButton } from "element-plus";
import { onUnmounted } from "vue";

import { api, type Job } from "@/api/client";
import JobBar from "@/components/JobBar.vue";
import { useNow } from "@/composables/useNow";
import { usePages } from "@/composables/usePages";
import { STATES, words } from "@/lib/act";
import { exact, span } from "@/lib/time";

import { selected } from "./selected";

// Bulk work under way, and what has been done.
const now = useNow();
const { rows, more, loaded, reload, showMore } = usePages<Job>(
  () => "jobs",
  api.jobs,
  () => false,
);
const timer = window.setInterval(() => rows.value.some((job) => !job.ended_at) && reload(), 2000);
onUnmounted(() => window.clearInterval(timer));
</script>

<template>
  <section class="page">
    <h1>Jobs</h1>
    <table v-if="rows.length">
      <thead>
        <tr>
          <th scope="col">What</th>
          <th scope="col">Domains</th>
          <th scope="col">By</th>
          <th scope="col">Begun</th>
          <th scope="col">How far</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="job in rows" :key="job.id" :data-job="job.id">
          <td>
            <RouterLink data-row :to="{ name: 'job', params: { id: job.id } }">{{
              words(job.act)
            }}</RouterLink>
          </td>
          <td>{{ selected(job.domains) }}</td>
          <td>{{ job.by ?? "the service" }}</td>
          <td :title="exact(job.created_at)">{{ span(now - Date.parse(job.created_at)) }} ago</td>
          <td><JobBar :job="job" /> {{ STATES[job.state] }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="loaded" class="soft">
      None yet. Choose domains at the roster, and what is to be done to all of them.
    </p>
    <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
  </section>
</template>
