import "element-plus/dist/index.css";
import "element-plus/theme-chalk/dark/css-vars.css";
import "@fontsource/source-sans-3/400.css";
import "@fontsource/source-sans-3/600.css";
import "@fontsource/source-code-pro/400.css";
import "./styles/theme.css";
import "./styles/base.css";

import { ElMessage } from "element-plus";
import { createPinia } from "pinia";
import { createApp } from "vue";

import { Problem } from "@/api/client";

import App from "./App.vue";
import { router } from "./router";

const app = createApp(App);
// What a page has no place for is said all the same.
app.config.errorHandler = (error) => {
  if (error instanceof Problem) ElMessage.error(error.message);
  else console.error(error);
};
app.use(createPinia()).use(router).mount("#app");
