<script setup lang="ts">
import type { Probe } from "@/api/client";
import VerdictMark from "@/components/VerdictMark.vue";

// What each address serves, beside what belongs there.
const props = defineProps<{ probe: Probe; serial: string }>();
type Result = Probe["results"][number];

const isOurs = (result: Result) => !result.tls_failure && result.served?.serial === props.serial;
function served(result: Result): string {
  if (result.tls_failure) return result.tls_failure;
  if (!result.served) return "nothing";
  const { serial, issuer, names } = result.served;
  return isOurs(result)
    ? "our certificate"
    : `serial ${serial} of ${issuer} for ${names.join(", ")}`;
}
</script>

<template>
  <table>
    <thead>
      <tr>
        <th scope="col">Address</th>
        <th scope="col">Certificate</th>
        <th scope="col">HTTP to HTTPS</th>
        <th scope="col">To the primary</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="result in probe.results" :key="result.address">
        <td class="record">{{ result.address }}</td>
        <td>
          <VerdictMark :verdict="isOurs(result) ? 'match' : 'differs'" /> {{ served(result) }}
        </td>
        <td>
          <VerdictMark :verdict="result.redirect_failure ? 'differs' : 'match'" />
          {{ result.redirect_failure ?? "right" }}
        </td>
        <td>
          <VerdictMark :verdict="result.pair_failure ? 'differs' : 'match'" />
          {{ result.pair_failure ?? "right" }}
        </td>
      </tr>
    </tbody>
  </table>
</template>
