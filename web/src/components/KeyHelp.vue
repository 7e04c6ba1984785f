<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { fits } from '../composables/completion'
import type { Place } from '../composables/place'

/** What may stand where the cursor is. */
const props = defineProps<{ kind?: Schemas['LanguageKind']; place: Place }>()
const path = computed(() =>
  props.place.key ? [...props.place.path, props.place.key] : props.place.path,
)
const here = computed(() =>
  (props.kind?.keys ?? []).filter(
    (k) => path.value.length > 0 && fits(k.path, path.value) && (k.doc || k.choices),
  ),
)
const inside = computed(() =>
  (props.kind?.keys ?? []).filter(
    (k) =>
      k.path.length === path.value.length + 1 && fits(k.path.slice(0, -1), path.value) && k.doc,
  ),
)
const around = computed(() =>
  here.value.length || inside.value.length
    ? []
    : (props.kind?.keys ?? []).filter((k) => k.path.length === 1),
)
</script>

<template>
  <p class="machine mb-3 text-soft">
    {{ kind?.kind
    }}<template v-for="(p, i) in path" :key="i"> › {{ p === '#' ? 'item' : p }}</template>
  </p>
  <dl v-for="(list, n) in [here, inside, around]" :key="n" class="space-y-3">
    <div v-for="k in list" :key="k.path.join('.') + k.type" class="pb-2">
      <dt class="machine font-medium">
        {{ k.path[k.path.length - 1] }}
        <span class="font-normal text-soft"
          >{{ k.choices?.join(', ') ?? (k.names ? `name of a ${k.names}` : k.type)
          }}<template v-if="k.need">, must be there</template></span
        >
      </dt>
      <dd>
        {{ k.doc
        }}<template v-if="k.default">
          Default: <span class="machine">{{ k.default }}</span>.</template
        >
        <pre v-if="k.example" class="machine mt-1 rounded bg-sunk whitespace-pre-wrap px-2 py-1">{{
          k.example
        }}</pre>
      </dd>
    </div>
  </dl>
</template>
