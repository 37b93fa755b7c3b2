<template>
  <h1>There is nothing at this address</h1>
  <p>The <RouterLink to="/jobs">jobs</RouterLink> are a good place to go on from.</p>
</template>
