<template>
  <div>
    <h1>There is no such page</h1>
    <p>The address may be mistyped. <RouterLink :to="{ name: 'overview' }">Go to the overview</RouterLink></p>
  </div>
</template>
