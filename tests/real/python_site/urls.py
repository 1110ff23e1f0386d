from django.urls import include, path
from wagtail import urls as pages
from wagtail.admin import urls as admin

urlpatterns = [path("cms/", include(admin)), path("", include(pages))]
