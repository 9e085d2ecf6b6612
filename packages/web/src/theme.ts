import { usePreferredDark } from '@vueuse/core'
import antTheme from 'ant-design-vue/es/theme'
import { computed, watchEffect } from 'vue'

/** Ant Design Vue's tokens from ours, so that its stock look does not show. */
export function useTheme() {
  const dark = usePreferredDark()
  watchEffect(() => {
    document.documentElement.dataset['theme'] = dark.value ? 'dark' : 'light'
  })
  return computed(() => {
    const pine = dark.value ? '#8FC3AF' : '#1E5B4B'
    return {
      algorithm: dark.value ? antTheme.darkAlgorithm : antTheme.defaultAlgorithm,
      token: {
        colorPrimary: pine,
        colorInfo: pine,
        colorLink: pine,
        colorError: dark.value ? '#F0968F' : '#A3271F',
        colorWarning: dark.value ? '#E0A3C6' : '#7A2E5D',
        colorTextBase: dark.value ? '#E6ECE9' : '#17211E',
        colorBgBase: dark.value ? '#1A2320' : '#FFFFFF',
        colorBorder: dark.value ? '#52625B' : '#8A948F',
        colorTextPlaceholder: dark.value ? '#93A19B' : '#66726D',
        colorTextLightSolid: dark.value ? '#10211B' : '#FFFFFF',
        borderRadius: 3,
        fontFamily: "'Atkinson Hyperlegible Next Variable', sans-serif",
        fontSize: 14,
        controlHeight: 30,
        motionDurationMid: '0.1s',
        motionDurationSlow: '0.14s',
        wireframe: false,
      },
    }
  })
}
