/** Colours of the theme for charts, which cannot read them from the style sheet themselves. */
export const tone = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()

export const chartText = () => ({ color: tone('--soft'), fontFamily: 'Atkinson Hyperlegible Next Variable' })

/** One after another, each far enough from the last to be told from it. */
export const layerTones = () =>
  ['--pine', '--moss', '--ink', '--plum', '--faint', '--moss-wash', '--soft', '--line'].map(tone)
