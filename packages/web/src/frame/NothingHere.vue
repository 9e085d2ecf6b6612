<template>
  <main class="nothing">
    <h1>There is no such page</h1>
    <p>The link may be old or mistyped. The stages of the work are in the bar above.</p>
  </main>
</template>

<style scoped>
.nothing {
  padding: 60px;
}
</style>
