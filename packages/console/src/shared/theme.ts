import { theme as antTheme } from 'ant-design-vue';
import { computed, ref, watchEffect } from 'vue';

type Choice = 'light' | 'dark';

const STORAGE_ITEM = 'uproar-theme';
const system = matchMedia('(prefers-color-scheme: dark)');
const still = matchMedia('(prefers-reduced-motion: reduce)');
const chosen = ref<Choice | null>(localStorage.getItem(STORAGE_ITEM) as Choice | null);
const systemIsDark = ref(system.matches);
system.addEventListener('change', ({ matches }) => (systemIsDark.value = matches));

/** True while the console is drawn dark: as chosen, otherwise as the system is. */
export const isDark = computed(() => (chosen.value ? chosen.value === 'dark' : systemIsDark.value));

/** Switches between light and dark, and remembers it. */
export function toggleTheme(): void {
  chosen.value = isDark.value ? 'light' : 'dark';
  localStorage.setItem(STORAGE_ITEM, chosen.value);
}

watchEffect(() => document.documentElement.classList.toggle('dark', isDark.value));

/** The same colours and sizes for the component library as `style.css` has for the rest. */
export const componentTheme = computed(() => ({
  algorithm: isDark.value ? antTheme.darkAlgorithm : antTheme.defaultAlgorithm,
  token: {
    // With "reduce motion" in the system settings, drawers and menus appear at once.
    motion: !still.matches,
    colorPrimary: isDark.value ? '#7568e6' : '#5a4fcf',
    colorInfo: isDark.value ? '#8f86f0' : '#5a4fcf',
    colorSuccess: isDark.value ? '#62d79a' : '#156b3e',
    colorWarning: isDark.value ? '#e3b04b' : '#8f5a00',
    // Otherwise made from the colour above, which is dark for the sake of texts.
    colorWarningBg: isDark.value ? '#33290f' : '#fff6e3',
    colorWarningBorder: isDark.value ? '#6b5422' : '#ecd29c',
    colorLink: isDark.value ? '#a59df5' : '#5a4fcf',
    colorError: isDark.value ? '#ff8f86' : '#b3362c',
    borderRadius: 5,
    fontSize: 13,
    fontSizeSM: 12,
    fontSizeLG: 14,
    controlHeight: 28,
    controlHeightLG: 36,
    fontFamily: 'inherit',
    colorBgBase: isDark.value ? '#15161b' : '#ffffff',
  },
}));
